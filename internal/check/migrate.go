package check

import (
	"context"
	"fmt"

	"freshkeel/internal/migrate"
	"freshkeel/internal/profile"
)

// checkMigrations tells which migrations the step would run, whether what they need will be
// there, and whether what they change could be brought back.
func checkMigrations(_ context.Context, s *situation) (out []Finding) {
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
	for _, m := range migrate.Due(s.k.Profile, s.plan.From, s.plan.To) {
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
