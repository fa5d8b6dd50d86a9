package runner

import (
	"context"
	"runtime"
	"sync"
	"syscall"
	"time"

	"deftheron/contract"
	"deftheron/core/run"
	"deftheron/core/transfer"
	"deftheron/service/messages"
	"deftheron/service/records"
)

const (
	// sampleEvery is how often the progress of a run is added to its series.
	sampleEvery = time.Second
	// keepSeriesEvery is how often the series is saved while the run goes on.
	keepSeriesEvery = time.Minute
	// recently is the time of which the bottleneck of a running run is told.
	recently = 30 * time.Second
	// mostEvents is how many events of a run are shown.
	mostEvents = 500
)

// recorder keeps the series of a run while it is worked on.
type recorder struct {
	runner *Runner
	number int64
	active *active
	work   *transfer.Run

	mu     sync.Mutex
	series run.Series
	used   time.Duration // of processors by the program, at the last sample
	at     time.Time
}

// record adds the progress of a run to its series until the function returned is called. What
// took less than two samples has none: there is nothing to draw, and arrivals are many.
func (r *Runner) record(ctx context.Context, a *active, row records.Run, work *transfer.Run, resumed bool) func() {
	ctx = context.WithoutCancel(ctx)
	var series run.Series
	if resumed {
		var err error
		if series, err = r.db.Series(ctx, row.Number); err != nil {
			r.log.ErrorContext(ctx, "could not read the progress of a run", "run", a.id, "error", err)
		}
	}
	c := &recorder{runner: r, number: row.Number, active: a, work: work, series: series, used: processorTime(), at: time.Now()}
	// What was done before is in the records; the run itself reads it only when it starts.
	c.series.Add(run.Sample{At: c.at, Bytes: row.Moved, Items: row.Done + row.Skipped + row.Failed}, false)
	a.recorder.Store(c)
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		ticker := time.NewTicker(sampleEvery)
		defer ticker.Stop()
		saved := time.Now()
		for {
			select {
			case now := <-ticker.C:
				c.sample(now, false)
				if now.Sub(saved) >= keepSeriesEvery {
					saved = now
					c.save(ctx)
				}
			case <-done:
				return
			}
		}
	}()
	return func() {
		close(done)
		<-ended
		c.sample(time.Now(), true)
		if series := c.now(); len(series.Points) > 1 {
			if err := r.db.SaveSeries(ctx, c.number, series); err != nil {
				r.log.ErrorContext(ctx, "could not save the progress of a run", "run", a.id, "error", err)
			}
		}
		a.recorder.Store(nil)
	}
}

func (c *recorder) sample(now time.Time, final bool) {
	snapshot := c.work.Snapshot()
	up, down := c.active.bandwidth.Rule().At(now)
	limit := up
	if limit == 0 || down > 0 && down < limit {
		limit = down
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	used, processor := processorTime(), 0.0
	if span := now.Sub(c.at); span > 0 {
		processor = min(1, float64(used-c.used)/float64(span)/float64(runtime.GOMAXPROCS(0)))
	}
	c.used, c.at = used, now
	c.series.Add(run.Sample{
		At: now, Bytes: snapshot.Moved, Items: snapshot.Done + snapshot.Skipped + snapshot.Failed, Retries: snapshot.Retries,
		SlowDowns: snapshot.SlowDowns, InFlight: len(snapshot.Flying), Limit: int64(limit), Waits: snapshot.Waits, Processor: processor,
	}, final)
}

// now returns the series so far.
func (c *recorder) now() run.Series {
	c.mu.Lock()
	defer c.mu.Unlock()
	series := c.series
	series.Points = append([]run.Point(nil), series.Points...)
	return series
}

func (c *recorder) save(ctx context.Context) {
	err := c.runner.db.SaveSeries(ctx, c.number, c.now())
	if err == nil { // so that what a run transfers counts on its day, however long it goes on
		err = c.runner.db.SaveRun(ctx, records.Run{Number: c.number, Moved: c.work.Snapshot().Moved}, "moved")
	}
	if err != nil {
		c.runner.log.ErrorContext(ctx, "could not save the progress of a run", "run", c.active.id, "error", err)
	}
}

// processorTime returns the processor time that the program has used.
func processorTime() time.Duration {
	var usage syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &usage) != nil {
		return 0
	}
	return time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
}

// Series returns the progress of a run over its whole life, and its bottleneck: of a run that
// goes on, lately.
func (r *Runner) Series(ctx context.Context, id string) (contract.RunSeries, error) {
	row, a, err := r.find(ctx, id)
	if err != nil {
		return contract.RunSeries{}, err
	}
	var series run.Series
	points := func() []run.Point { return series.Points }
	if c := recorderOf(a); c != nil {
		series = c.now()
		points = func() []run.Point { return latest(series.Points, recently) }
	} else if series, err = r.db.Series(ctx, row.Number); err != nil {
		return contract.RunSeries{}, err
	}
	is, shares := run.BottleneckOf(points())
	shown := contract.RunSeries{Columns: series.Columns(), Bottleneck: is, Shares: shares, Sentence: messages.Bottleneck(is, shares)}
	if r.workersCould(ctx, row) {
		shown.Workers = messages.MoreWorkers(is)
	}
	return shown, nil
}

func recorderOf(a *active) *recorder {
	if a == nil {
		return nil
	}
	return a.recorder.Load()
}

// latest returns the points of the last time.
func latest(points []run.Point, time time.Duration) []run.Point {
	if len(points) == 0 {
		return nil
	}
	since := points[len(points)-1].At - time.Milliseconds()
	for i, p := range points {
		if p.At > since {
			return points[i:]
		}
	}
	return nil
}

// Events returns what happened to a run, the oldest first.
func (r *Runner) Events(ctx context.Context, id string) ([]contract.RunEvent, error) {
	row, _, err := r.find(ctx, id)
	if err != nil {
		return nil, err
	}
	events, err := r.db.Events(ctx, row.Number, mostEvents)
	shown := []contract.RunEvent{{At: row.CreatedAt, What: string(run.Queued), Sentence: messages.RunEvent(string(run.Queued), "", "")}}
	for _, one := range events {
		shown = append(shown, contract.RunEvent{At: one.At, What: one.What, Cause: one.Cause, Sentence: messages.RunEvent(one.What, one.Cause,
			one.Detail)})
	}
	return shown, err
}

// note keeps a change of a run by a person. A failure is logged: the change itself stands.
func (r *Runner) note(ctx context.Context, row records.Run, what, detail string) {
	if err := r.db.AddEvent(context.WithoutCancel(ctx), row.Number, what, detail); err != nil {
		r.log.ErrorContext(ctx, "could not record a change of a run", "run", row.ID, "error", err)
	}
}
