package workers

import (
	"context"

	"deftheron/service/records"
)

// Assign has users manage a worker, beside the owners of the service; or takes that back. managers are
// operators.
func (w *Workers) Assign(ctx context.Context, name string, managers []records.User, assign bool) error {
	row, err := w.row(ctx, name)
	if err != nil {
		return err
	}
	for _, user := range managers {
		if assign {
			err = w.db.AssignWorker(ctx, row.ID, user.ID, w.now())
		} else {
			err = w.db.UnassignWorker(ctx, row.ID, user.ID)
		}
		if err != nil {
			return err
		}
		w.log.InfoContext(ctx, "changed who manages a worker", "worker", name, "user", user.Name, "assigned", assign)
	}
	w.Changed()
	return nil
}

// Show returns a worker by name.
func (w *Workers) Show(ctx context.Context, name string) (Worker, error) {
	all, err := w.List(ctx)
	for _, one := range all {
		if one.Name == name {
			return one, err
		}
	}
	if err == nil {
		err = missing(name)
	}
	return Worker{}, err
}
