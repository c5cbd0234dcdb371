package check

import (
	"context"
	"fmt"
	"slices"

	"freshkeel/internal/data"
	"freshkeel/internal/migrate"
	"freshkeel/internal/profile"
)

// checkMigrations tells which migrations the step would run, whether what they need will be
// there, and whether what they change could be brought back.
func checkMigrations(ctx context.Context, s *situation) (out []Finding) {
	where := s.k.Path(profile.FileName) + ", [[migration]]"
	mg := migrate.New(s.k.res)
	for _, m := range s.k.Profile.Migrations {
		if m.When != profile.EachTime && (s.plan.From == "" || s.plan.To == "") {
			out = append(out, Finding{Level: Warn,
				What:  fmt.Sprintf("whether the migration %s is due can't be told: a version is not known", m.Name),
				Where: where, Why: "it will not be run, and the new build may meet data that it does not read",
				Do: "say which version is installed: freshkeel adopt --version VERSION; and which comes: --as VERSION"})
			break
		}
	}
	had, err := data.New(s.k.Install).Had()
	if err != nil {
		return append(out, Finding{Level: Stop, What: err.Error(), Where: s.k.State(), Why: "a migration could be run twice",
			Do: "bring the file back from a backup of .freshkeel, or delete it: the logbook tells then"})
	}
	due := migrate.Due(s.k.Profile, s.plan.From, s.plan.To)
	out = append(out, s.namedInVain(due, where)...)
	for _, m := range due {
		switch st := mg.Standing(ctx, m, had, migrate.Word{Has: s.want.Has, Lacks: s.want.Lacks}); {
		case st.Stop != "":
			out = append(out, s.notTwice(st, where))
			continue
		case st.LeftOut != "":
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("the migration %s is left out: %s", m.Name, st.LeftOut),
				Where: where, Why: "run twice, it could spoil the data",
				Do: "nothing, if that is so; else: --data-lacks '" + m.Name + "'"})
			continue
		}
		what := fmt.Sprintf("the migration %s will be run: %s", m.Name, migrate.Words(m))
		if m.Docs != "" {
			what += " (as " + m.Docs + " says)"
		}
		if lacks := mg.Missing(m, s.plan.From, s.plan.To, s.ahead.Has); lacks != "" {
			out = append(
				out,
				Finding{Level: Stop, What: fmt.Sprintf("the migration %s needs %s, which will not be there",
					m.Name, lacks), Where: where, Why: "the refit would go back with the server down",
					Do: "correct the profile, or put it there"},
			)
			continue
		}
		out = append(out, ok("%s", what)...)
		if len(s.k.Profile.Data) > 0 {
			continue
		}
		level := Warn
		if m.MustGoBack {
			level = Stop
		}
		out = append(out, Finding{Level: level,
			What:  fmt.Sprintf("what the migration %s changes outside the install can't be brought back", m.Name),
			Where: where, Why: "the profile has no [[data]] with a dump and a load: were the new build not to come up, the " +
				"old one would meet the migrated data",
			Do: "name how the data is dumped and loaded under [[data]] (docs/profile.md)"})
	}
	return out
}

// notTwice refuses to run a migration on data that may have had it.
func (s *situation) notTwice(st migrate.Standing, where string) Finding {
	do := fmt.Sprintf("look at the data; if it has had it: freshkeel refit %s --data-has '%s'; if it has not: --data-lacks '%[2]s'",
		s.plan.To, st.Name)
	if len(s.k.Profile.Data) > 0 {
		do += "; or bring the data of before back first: freshkeel backup list, freshkeel backup restore BACKUP --data"
	}
	return Finding{Level: Stop, What: fmt.Sprintf("the migration %s is not run: %s", st.Name, st.Stop), Where: where,
		Why: "run on data that has had it, it could spoil it", Do: do}
}

// namedInVain tells of migrations that somebody named and that are not due.
func (s *situation) namedInVain(due []profile.Migration, where string) (out []Finding) {
	for _, name := range slices.Concat(s.want.Has, s.want.Lacks) {
		if !slices.ContainsFunc(due, func(m profile.Migration) bool { return m.Name == name }) {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("the migration %s is not due in this step: what you say of it has no effect",
					name), Where: where, Why: "a name that is spelled otherwise would go unnoticed",
				Do: "compare the names under [[migration]]: freshkeel profile check"})
		}
	}
	return out
}
