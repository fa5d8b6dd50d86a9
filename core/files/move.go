package files

import (
	"context"

	"deftheron/core/store"
	"deftheron/core/tree"
)

// Entry is what was found at an address.
type Entry struct {
	tree.Located
	Entry store.Entry
}

// Step is an entry and where it is moved to.
type Step struct {
	From Entry
	To   tree.Located
}

// Inside reports whether both ends are in one account.
func (s Step) Inside() bool { return s.From.Name == s.To.Name }

// PlanMove returns the steps that move entries into a folder. name is the new name of a single
// entry; empty keeps the names. Nothing is changed.
//
// Its errors are ErrRefused for what cannot be meant, ErrExists for a target that exists, and
// those of the store for a name that it cannot hold.
func PlanMove(ctx context.Context, from []Entry, folder Entry, name string) (steps []Step, err error) {
	if name != "" && len(from) != 1 {
		return nil, store.Errorf(store.ErrRefused, "a new name can be given to one entry only; there are %d", len(from))
	}
	if folder.Entry.Kind != store.KindFolder {
		return nil, store.Errorf(store.ErrExists, "%s is a file; name a folder to move into", folder.Address)
	}
	taken := map[string]bool{}
	for _, one := range from {
		step, err := planStep(ctx, one, folder.Located, name)
		if err != nil {
			return nil, err
		}
		address := step.To.Address.String()
		if taken[address] {
			return nil, store.Errorf(store.ErrRefused, "two entries would both become %s; move them to different folders", address)
		}
		taken[address] = true
		steps = append(steps, step)
	}
	return steps, nil
}

func planStep(ctx context.Context, from Entry, folder tree.Located, name string) (Step, error) {
	if from.Place.IsStart() {
		return Step{}, store.Errorf(store.ErrRefused, "%s is a whole account, which cannot be moved; name what is in it", from.Address)
	}
	from.Place = from.Place.As(from.Entry.Kind)
	if name == "" {
		name = from.Place.Name
	}
	to := folder
	to.Address, to.Place = folder.Address.Child(name), folder.Place.AsFolder().Ref(name)
	switch {
	case from.Address.String() == to.Address.String():
		return Step{}, store.Errorf(store.ErrRefused, "%s is already there; choose another folder or another name", from.Address)
	case from.Address.Contains(to.Address):
		return Step{}, store.Errorf(store.ErrRefused, "%s cannot be moved into itself, to %s; choose a folder outside it", from.Address,
			to.Address)
	}
	if err := to.Store.Traits().NameError(to.Place.Folder.Path, name); err != nil {
		return Step{}, err
	}
	_, err := store.Occupant(ctx, to.Store, to.Place.As(from.Entry.Kind))
	if err == nil {
		return Step{}, store.Errorf(store.ErrExists, "%s already exists; choose another name, or move it out of the way", to.Address)
	}
	if store.KindOf(err) != store.ErrNotFound {
		return Step{}, err
	}
	return Step{From: from, To: to}, nil
}
