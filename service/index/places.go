package index

import (
	"context"
	"database/sql"
	"errors"

	"deftheron/core/store"
)

// folderAt finds a folder by the steps to it; ok is false if it is not known, and id is then
// that of the innermost one that is.
func (x *Index) folderAt(ctx context.Context, of account, steps []store.Step) (id int64, ok bool, err error) {
	id = of.root
	for _, step := range steps {
		key := step.Name + "/"
		var next int64
		query, arguments := "SELECT id FROM entries WHERE account = ? AND parent = ? AND key = ?", []any{of.id, id, []byte(key)}
		if step.ID != "" {
			query = "SELECT id FROM entries WHERE account = ? AND parent = ? AND folder = 1 AND step = ?"
			arguments[2] = step.ID
		}
		err := x.db.read.QueryRowContext(ctx, query, arguments...).Scan(&next)
		if errors.Is(err, sql.ErrNoRows) {
			return id, false, nil
		}
		if err != nil {
			return id, false, err
		}
		id = next
	}
	return id, true, nil
}

// place is where an entry is.
type place struct {
	parent int64
	name   string
	step   string
}

// mostSteps is how deep entries are found.
const mostSteps = 200

// pathOf returns the steps to a folder. ok is false for what is removed.
func (x *Index) pathOf(ctx context.Context, id int64, known map[int64]place) (steps []store.Step, ok bool, err error) {
	for range mostSteps {
		at, is := known[id]
		if !is {
			err := x.db.read.QueryRowContext(ctx, "SELECT parent, name, step FROM entries WHERE id = ?", id).Scan(&at.parent, &at.name, &at.step)
			if errors.Is(err, sql.ErrNoRows) {
				at.parent = doomed
			} else if err != nil {
				return nil, false, err
			}
			if known != nil {
				known[id] = at
			}
		}
		switch at.parent {
		case doomed:
			return nil, false, nil
		case 0:
			for i, j := 0, len(steps)-1; i < j; i, j = i+1, j-1 {
				steps[i], steps[j] = steps[j], steps[i]
			}
			return steps, true, nil
		}
		step := store.Step{Name: at.name}
		if at.step != "" {
			step = store.Step{ID: at.step}
		}
		steps, id = append(steps, step), at.parent
	}
	return nil, false, nil
}

// addressOf returns the address of an entry.
func (x *Index) addressOf(ctx context.Context, of int64, r row) (address store.Address, ok bool, err error) {
	err = x.db.read.QueryRowContext(ctx, "SELECT name FROM accounts WHERE id = ?", of).Scan(&address.Account)
	if errors.Is(err, sql.ErrNoRows) {
		return address, false, nil
	}
	if err != nil {
		return address, false, err
	}
	if address.Steps, ok, err = x.pathOf(ctx, r.parent, nil); !ok || err != nil {
		return address, ok, err
	}
	return withStep(address, r), true, nil
}

// withStep adds the last step of an entry to the address of its folder.
func withStep(folder store.Address, r row) store.Address {
	steps := append(folder.Steps[:len(folder.Steps):len(folder.Steps)], store.Step{Name: r.name})
	if r.step != "" {
		steps[len(steps)-1] = store.Step{ID: r.step}
	}
	folder.Steps = steps
	return folder
}

// Place is where an entry of an account is.
type Place struct {
	Link  string // the id of the account
	Steps []store.Step
	Kind  store.Kind
}

// IDs returns the ids of the entries at places, as far as the index knows them. They are
// good until the entries are listed again.
func (x *Index) IDs(ctx context.Context, places []Place) (ids []int64, unknown []Place, err error) {
	all, err := x.accounts(ctx)
	if err != nil {
		return nil, nil, err
	}
	byLink := make(map[string]account, len(all))
	for _, one := range all {
		byLink[one.link] = one
	}
	ids = []int64{}
	for _, at := range places {
		id, ok, err := x.idAt(ctx, byLink[at.Link], at)
		if err != nil {
			return nil, nil, err
		}
		if !ok {
			unknown = append(unknown, at)
			continue
		}
		ids = append(ids, id)
	}
	return ids, unknown, nil
}

func (x *Index) idAt(ctx context.Context, of account, at Place) (id int64, ok bool, err error) {
	if of.id == 0 || len(at.Steps) == 0 {
		return 0, false, nil
	}
	last := at.Steps[len(at.Steps)-1]
	folder, ok, err := x.folderAt(ctx, of, at.Steps[:len(at.Steps)-1])
	if !ok || err != nil {
		return 0, false, err
	}
	key := []byte(last.Name)
	if at.Kind == store.KindFolder {
		key = append(key, '/')
	}
	err = x.db.read.QueryRowContext(ctx, "SELECT id FROM entries WHERE account = ? AND parent = ? AND key = ?", of.id, folder, key).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, false, nil
	}
	return id, err == nil, err
}
