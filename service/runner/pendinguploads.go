package runner

import (
	"context"
	"time"

	"deftheron/core/store"
	"deftheron/service/records"
)

// TrackUpload records a file that comes from outside, so that the leftovers of a process
// that dies are found at the next start. The caller calls the returned function when the
// file has arrived or failed.
func (r *Runner) TrackUpload(ctx context.Context, address store.Address) (run string, ended func(), err error) {
	run = newID(time.Now())
	if err := r.db.AddPendingUpload(ctx, records.PendingUpload{Run: run, Address: address.String()}); err != nil {
		return "", nil, err
	}
	return run, func() {
		if err := r.db.EndPendingUpload(context.WithoutCancel(ctx), run); err != nil {
			r.log.ErrorContext(ctx, "could not remove the record of an upload", "run", run, "error", err)
		}
	}, nil
}

// cleanPendingUploads removes what uploads left behind when the service ended. What
// cannot be reached now is tried again at the next start.
func (r *Runner) cleanPendingUploads() error {
	arrivals, err := r.db.PendingUploads(r.ctx)
	if err != nil || len(arrivals) == 0 {
		return err
	}
	r.group.Go(func() {
		for _, arrival := range arrivals {
			err := r.cleanPendingUpload(arrival)
			if err == nil || store.KindOf(err) == store.ErrNotFound {
				err = r.db.EndPendingUpload(r.ctx, arrival.Run)
			}
			if err != nil {
				r.log.Warn("the leftovers of an upload could not be deleted yet", "address", arrival.Address, "error", err)
			}
		}
	})
	return nil
}

func (r *Runner) cleanPendingUpload(arrival records.PendingUpload) error {
	address, err := store.ParseAddress(arrival.Address)
	if err != nil {
		return err
	}
	located, err := r.tree.Locate(r.ctx, address)
	if err != nil {
		return err
	}
	cleaned, err := store.Clean(r.ctx, located.Store, store.Cleaning{
		Run: arrival.Run, Folder: located.Place.Folder, Uploads: []store.Ref{located.Place},
	})
	for _, leftover := range cleaned {
		r.log.Info("removed a leftover", "account", located.Name, "place", leftover.Place.String())
	}
	return err
}
