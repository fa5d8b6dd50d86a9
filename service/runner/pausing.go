package runner

import (
	"context"
	"slices"
	"time"
)

// asideTime is how long a run may take to stop for a change of an account.
const asideTime = 30 * time.Second

// WithRunsPaused has the runs that use an account stop, does a change of it, and takes them
// up again where they were, as after a restart of the service.
func (r *Runner) WithRunsPaused(ctx context.Context, account string, change func() error) error {
	var stopped []*active
	r.mu.Lock()
	for _, a := range r.active {
		a.do(func(s *runState) {
			if slices.Contains(changed(s.row), account) {
				s.aside = true
				stopped = append(stopped, a)
			}
		})
	}
	r.mu.Unlock()
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), asideTime)
	defer cancel()
	for _, a := range stopped {
		a.cancel(nil)
	}
	for _, a := range stopped {
		select {
		case <-a.ended:
		case <-stopping.Done(): // it goes on as the account was until it stops
		}
	}
	err := change()
	r.scheduler.arrivalsAnew()
	for _, a := range stopped {
		r.takeUp(a)
	}
	return err
}

// takeUp goes on with a run that stopped for a change, unless it has ended, or is
// not to go on by itself.
func (r *Runner) takeUp(a *active) {
	r.group.Go(func() {
		<-a.ended
		if r.ctx.Err() != nil {
			return
		}
		r.hands.Lock()
		defer r.hands.Unlock()
		row, err := r.db.Run(r.ctx, a.id)
		if err != nil {
			r.log.Error("could not continue a run", "run", a.id, "error", err)
			return
		}
		r.mu.Lock()
		_, going := r.active[row.ID]
		r.mu.Unlock()
		if !going && !row.Ended() && !row.State.Waits() {
			r.launch(row, row.StartedAt != nil)
		}
	})
}
