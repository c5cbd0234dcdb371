package change

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshkeel/internal/check"
	"freshkeel/internal/data"
	"freshkeel/internal/guard"
	"freshkeel/internal/logbook"
	"freshkeel/internal/migrate"
	"freshkeel/internal/resolve"
	"freshkeel/internal/run"
)

// migrate does to the data what the makers of the new build want, once its files are in place and
// before it starts. Each migration is written down before it begins and when it is done: one that
// was begun and is not known to be done means going back, files and data both.
func (t *transaction) migrate(ctx context.Context) (string, error) {
	due := migrate.Due(t.In.Profile, t.E.From, t.E.To)
	for _, m := range due {
		had := data.Had{Name: m.Name, Run: t.E.ID, From: t.E.From, To: t.E.To, Began: time.Now().Round(0)}
		if slices.Contains(t.E.LeftOut, m.Name) {
			had.Done, had.Said = true, true
			if err := t.k.Outside.Note(had); err != nil {
				return "", err
			}
			t.E.Told = append(t.E.Told, fmt.Sprintf("the migration %s was left out: the data has had it", m.Name))
			continue
		}
		if len(m.Up) > 0 { // they run, on files that are whole
			if err := guard.New(t.In).Still(m.Up...); err != nil {
				return "", err
			}
		}
		if err := t.k.Srv.Arrange(ctx, m.Up, m.Down); err != nil {
			return "", fmt.Errorf("before the migration %s: %w", m.Name, err)
		}
		if err := t.k.Outside.Note(had); err != nil {
			return "", err
		}
		t.E.Migrations = append(t.E.Migrations, logbook.Migrated{Name: m.Name, Began: time.Now().Round(0)})
		if err := t.In.Book.Save(t.E); err != nil {
			return "", err
		}
		err := t.Step("migrate", func() (string, error) {
			if err := t.In.Halt("migrating"); err != nil {
				return "", err
			}
			return m.Name, migrate.New(t.k.Res).Run(ctx, m, t.E.From, t.E.To)
		})
		if failed := (*migrate.Failed)(nil); errors.As(err, &failed) {
			return "", &run.Cause{Why: err.Error(), Lines: failed.Lines, Err: err}
		}
		if err != nil {
			return "", err
		}
		done := &t.E.Migrations[len(t.E.Migrations)-1]
		done.Done, done.Took = true, time.Since(done.Began)
		if err := t.In.Halt("migrated"); err != nil {
			return "", err
		}
		had.Done = true
		if err := t.k.Outside.Note(had); err != nil {
			return "", err
		}
		if err := t.In.Book.Save(t.E); err != nil {
			return "", err
		}
	}
	return "", t.In.Halt("all-migrated")
}

// leftOut names the migrations that the step does not run, as the data has had them.
func leftOut(ctx context.Context, k *Changer, pre *check.Preflight, w resolve.Want) (names []string, err error) {
	due := migrate.Due(k.In.Profile, pre.From, pre.To)
	if len(due) == 0 {
		return nil, nil
	}
	had, err := k.Outside.Had()
	if err != nil {
		return nil, err
	}
	for _, m := range due {
		st := migrate.New(k.Res).Standing(ctx, m, had, migrate.Word{Has: w.Has, Lacks: w.Lacks})
		if st.Stop != "" {
			return nil, fmt.Errorf("the migration %s: %s", m.Name, st.Stop)
		}
		if st.LeftOut != "" {
			names = append(names, m.Name)
		}
	}
	return names, nil
}
