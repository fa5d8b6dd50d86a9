package transfer

import (
	"context"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
)

// keepLedger records endings in batches, every quarter of a second at the earliest,
// after the files that they are about are safe on disk. If the run is interrupted it
// still records everything that was done.
func (r *Run) keepLedger(running context.Context) error {
	ctx := context.WithoutCancel(running)
	ticker := time.NewTicker(250 * time.Millisecond)
	defer ticker.Stop()
	var endings []Ending
	var failed error
	write := func() {
		if len(endings) == 0 || failed != nil {
			endings = endings[:0]
			return
		}
		if failed = r.writeDown(ctx, endings, func() bool { return running.Err() == nil }); failed != nil {
			r.halt(plan.CauseFault, "what was done could not be made safe: "+failed.Error())
		}
		endings = endings[:0]
	}
	for {
		select {
		case ending, open := <-r.endings:
			if !open {
				write()
				r.writeManifests(ctx)
				return failed
			}
			if endings = append(endings, ending); len(endings) >= batch {
				write()
			}
		case <-ticker.C:
			write()
			if r.unlisted.isDue() {
				r.writeManifests(ctx)
			}
		case written := <-r.flush:
			for more := true; more; {
				select {
				case ending := <-r.endings:
					endings = append(endings, ending)
				default:
					more = false
				}
			}
			write()
			close(written)
		}
	}
}

// settle waits until all items that were handed out have ended and are recorded, so that
// what is claimed afterwards is still undone.
func (r *Run) settle() {
	for _, f := range r.feeders {
		f.pending.Wait()
	}
	r.writeNow()
}

// settleOne is settle for one feeder.
func (r *Run) settleOne(f *feeder) {
	f.pending.Wait()
	r.writeNow()
}

func (r *Run) writeNow() {
	written := make(chan struct{})
	r.flush <- written
	<-written
}

// writeDown writes endings down. Where an account does not answer it is waited for, as long
// as may says so.
func (r *Run) writeDown(ctx context.Context, endings []Ending, may func() bool) error {
	synced := map[store.Store]bool{}
	for i, route := range r.routesNow() {
		if r.absentOf(i) != nil && route.Unopened != nil {
			continue
		}
		if !synced[route.Target.Store] {
			synced[route.Target.Store] = true
			if err := r.persist(ctx, may, func() error { return store.Sync(ctx, route.Target.Store) }); err != nil {
				return err
			}
		}
	}
	if err := r.Records.Finish(ctx, r.ID, r.scopes, endings); err != nil {
		return err
	}
	for _, ending := range endings {
		r.unlisted.add(ending.Changes)
		r.identical.written(ending.Held)
	}
	return nil
}
