package change

import (
	"context"
	"fmt"
	"path/filepath"

	"freshkeel/internal/check"
	"freshkeel/internal/inventory"
	"freshkeel/internal/plan"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// stage lays the new files out beside the install and writes down the plan.
// The plan is durable before anything can follow it.
func (t *transaction) stage(pre *check.Preflight) (string, error) {
	p := pre.Plan
	if err := t.In.Halt("stage"); err != nil {
		return "", err
	}
	t.Dir.Places = p.Places
	// Beside the plan stand the inventory as it is and as it will be: a crash between
	// swap and confirmation loses neither.
	if _, err := t.keepInventory(context.Background()); err != nil {
		return "", err
	}
	after := filepath.Join(t.Dir.Dir, inventoryAfter)
	if err := p.WriteInventory(after); err != nil {
		return "", err
	}
	p.Checked()
	pre.Fetched.Forget()
	stamps, err := t.k.Planner.Stage(t.Dir, p, t.In.Moves("stage"))
	if err != nil {
		return "", err
	}
	if err := stamp(after, stamps); err != nil {
		return "", err
	}
	if err := t.Dir.Write(t.Dir.Plan(p.Steps)); err != nil {
		return "", err
	}
	replaced, added, removed := p.Changes()
	return fmt.Sprintf("%s; %d to replace, %d to add, %d to remove, %d unchanged", words.Bytes(p.Bytes), replaced,
		added, removed, p.Unchanged), t.In.Halt("staged")
}

// recheck holds the plan against the install as the stopping server left it.
// The server may have rewritten files meanwhile, as long as the same plan follows.
func (t *transaction) recheck(pre *check.Preflight, w resolve.Want) error {
	changed := t.k.Planner.Still(pre.Plan)
	if changed == nil {
		return nil
	}
	if err := t.k.Acq.Remember(pre.Fetched); err != nil {
		return err
	}
	again, err := t.k.Planner.Make(pre.Fetched, w)
	if err != nil {
		return err
	}
	if plan.SameButCarried(again, pre.Plan) { // the server wrote its settings anew as it stopped
		return t.k.Planner.Restage(t.Dir, again)
	}
	if !plan.Same(again, pre.Plan) {
		return tell.Advise(fmt.Errorf("%w, and the plan no longer holds", changed),
			"run the refit again; it will plan with what is there now")
	}
	return nil
}

// stamp notes in the inventory to be the times that files were laid out with: they prove
// later that nobody wrote to them.
func stamp(path string, stamps map[string]plan.Stamp) error {
	s, err := inventory.Open(path)
	if err != nil {
		return err
	}
	defer s.Close()
	return s.CopyTo(path, func(o *inventory.Owned) {
		if st, laid := stamps[o.Path]; laid {
			o.Mtime, o.Inode = st.Mtime, st.Inode
		}
	})
}
