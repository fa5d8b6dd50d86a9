// Package runner carries runs out: it starts them, ends them, and takes them up
// again when the service starts. What a run does is package transfer's; this
// one owns the goroutines.
package runner

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/core/tree"
	"deftheron/service/accounts"
	"deftheron/service/annotations"
	"deftheron/service/live"
	"deftheron/service/records"
	"deftheron/service/workers"
)

// usualAtOnce is how many runs move at once unless it is set; the others are queued.
const usualAtOnce, mostAtOnce = 4, 32

// keptAfterUnlink is how long what is remembered of copies through an account is kept
// after it was unlinked.
const keptAfterUnlink = 90 * 24 * time.Hour

// reopenWait is how long to wait before an account that could not be reached
// is tried again for a run.
const reopenWait = 10 * time.Second

// Runner carries runs out.
type Runner struct {
	db       *records.DB
	accounts *accounts.Accounts
	tree     *tree.Tree
	hub      *live.Hub
	log      *slog.Logger
	// Ended is called when a run has ended, or is interrupted, with the
	// accounts that it may have changed.
	Ended func(accounts []string)
	// Wrote, where it is not nil, is called with each folder in which a run that has ended may
	// have changed something.
	Wrote func(Wrote)
	// Annotations carries tags and comments over; nil carries none.
	Annotations *annotations.Annotations
	// Told is called when a run has ended, or is held, with what came of it.
	Notify func(contract.Run)
	// Scratch is a folder for content whose size is not known yet.
	Scratch string
	// KeepItems is how long the items of runs are kept that were done or skipped; 0 is
	// for good.
	KeepItems time.Duration
	// KeepHistory is how long what runs move to history is kept; 0 is for good.
	KeepHistory time.Duration
	// Transfers are those to and from outside, whose progress is told too.
	Transfers live.Transfers

	// Workers, if not nil, copy for runs.
	Workers *workers.Workers
	// ScopeOf returns what users see; nil if everybody sees everything.
	ScopeOf ScopeOf

	limiter   *runLimiter
	returning returning
	group     sync.WaitGroup
	ctx       context.Context

	scheduler *scheduler
	feeds     *feeds
	starting  sync.Mutex // one run of a job is started at a time

	// hands is held while a run is handed from the records to a goroutine of its
	// own, or back, so that nobody meets it in between.
	hands   sync.Mutex
	mu      sync.Mutex
	active  map[string]*active // by id
	past    tally
	imports sync.Map // *imported, by the ids of accounts
	// rehearsing are the jobs of which a rehearsal is under way.
	rehearsing map[string]bool
	// thinning are the accounts whose history is about to be thinned.
	thinning map[string]bool
	// freeing gives memory back some time after the last run.
	freeing *time.Timer
}

// New returns a runner. ctx ends all that it runs, to be taken up again.
func New(ctx context.Context, db *records.DB, accounts *accounts.Accounts, tree *tree.Tree, hub *live.Hub, log *slog.Logger) *Runner {
	r := &Runner{
		db: db, accounts: accounts, tree: tree, hub: hub, log: log, ctx: ctx, Ended: func([]string) {}, Notify: func(contract.Run) {},
		limiter: newRunLimiter(usualAtOnce), active: map[string]*active{},
	}
	r.feeds = &feeds{runner: r, open: map[string]*feed{}}
	r.scheduler = &scheduler{runner: r, jobs: map[string]*keeping{}, keepers: map[string]*keeper{}}
	return r
}

// Resume takes up the runs that had not ended when the service did.
func (r *Runner) Resume() error {
	atOnce, err := r.AtOnce(r.ctx)
	if err != nil {
		return err
	}
	r.limiter.setMost(atOnce)
	if err := r.cleanPendingUploads(); err != nil {
		return err
	}
	if err := r.db.ForgetEnded(r.ctx, time.Now().Add(-keptAfterUnlink)); err != nil {
		return err
	}
	if err := r.db.EndStranded(r.ctx); err != nil {
		return err
	}
	rows, err := r.db.OpenRuns(r.ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		switch {
		case row.Cancelling && row.State.Waits():
			r.become(&row, run.Cancel, plan.CauseNone, "")
		case row.State == run.Paused || row.Needs().OfPerson():
			continue // until a person resumes it, or has decided, or its hours begin
		case row.State == run.Held:
			r.become(&row, run.Resume, plan.CauseNone, "")
		}
		resumed := row.StartedAt != nil
		if resumed {
			row.Interruptions++
			if err := r.db.SaveRun(r.ctx, row, "interruptions"); err != nil {
				return err
			}
		}
		r.launch(row, resumed)
	}
	jobs, err := r.db.KeptJobs(r.ctx)
	for _, row := range jobs {
		r.scheduler.keep(row)
	}
	return err
}

// Wait returns when everything that runs has ended or is interrupted.
func (r *Runner) Wait() { r.group.Wait() }

// Copy starts a copy, after checking that it can be meant.
func (r *Runner) Copy(ctx context.Context, request contract.Copy) (contract.Started, error) {
	p, err := r.prepareCopy(ctx, request)
	if err != nil {
		return contract.Started{}, err
	}
	if err := mayRun(ctx, p.rows, false); err != nil {
		return contract.Started{}, err
	}
	return r.start(ctx, p.rows, p.rules)
}

// Move starts a run that copies each source to where it is to be, verifies what
// arrived, and only then removes it at the source.
func (r *Runner) Move(ctx context.Context, routes []contract.Route) (contract.Started, error) {
	var rows []records.Route
	for _, one := range routes {
		from, to, err := addressesOf(job.Route(one))
		if err != nil {
			return contract.Started{}, err
		}
		row, route, err := r.resolve(ctx, from, to)
		if err != nil {
			return contract.Started{}, err
		}
		if err := transfer.Check(ctx, route); err != nil {
			return contract.Started{}, err
		}
		if err := checkMove(ctx, route); err != nil {
			return contract.Started{}, err
		}
		if err := r.checkKept(ctx, moving, true, []transfer.Route{route}); err != nil {
			return contract.Started{}, err
		}
		rows = append(rows, row)
	}
	if err := mayRun(ctx, rows, true); err != nil {
		return contract.Started{}, err
	}
	return r.start(ctx, rows, moving)
}

func (r *Runner) start(ctx context.Context, rows []records.Route, rules plan.Rules) (contract.Started, error) {
	id := newID(time.Now())
	name := "copy-" + id
	if rules.Clear {
		name = "move-" + id
	}
	once := records.Job{ID: uuid.NewString(), Name: name, Type: "copy", Routes: rows, Rules: rules, CreatedAt: time.Now(), OneOff: true,
		Owner: ownerOf(ctx)}
	row := records.Run{ID: id, Job: once.Name, State: run.Queued, Routes: rows, Rules: rules, CreatedAt: time.Now()}
	if err := r.db.AddRun(ctx, &once, &row); err != nil {
		return contract.Started{}, err
	}
	r.log.InfoContext(ctx, "run", "run", row.ID, "job", row.Job, "state", row.State)
	r.launch(row, false)
	return contract.Started{Run: id, Job: once.Name}, nil
}

// newID returns eleven letters and digits that sort by time.
func newID(now time.Time) string {
	const digits = "0123456789abcdefghjkmnpqrstvwxyz" // Crockford's base 32
	var random [4]byte
	rand.Read(random[:])
	value := uint64(now.Unix())<<20 | uint64(binary.BigEndian.Uint32(random[:]))&(1<<20-1)
	id := make([]byte, 11)
	for i := len(id) - 1; i >= 0; i-- {
		id[i] = digits[value&31]
		value >>= 5
	}
	return string(id)
}

// launch carries a run out in a goroutine of its own, unless that is done already: two
// hands may take up one run in the same moment.
func (r *Runner) launch(row records.Run, resumed bool) {
	r.mu.Lock()
	if _, going := r.active[row.ID]; going {
		r.mu.Unlock()
		return
	}
	ctx, cancel := context.WithCancelCause(r.ctx)
	end := make(chan struct{})
	a := newActive(row, cancel, end)
	r.active[row.ID] = a
	r.mu.Unlock()
	if row.Cancelling {
		cancel(transfer.ErrCancelled)
	}
	r.hub.Publish(live.Runs, r.contract(row, nil))
	r.group.Go(func() {
		defer close(a.ended)
		defer close(end)
		defer cancel(nil)
		result := r.carryOut(ctx, a, resumed)
		r.ended(a, result)
	})
}

func (r *Runner) carryOut(ctx context.Context, a *active, resumed bool) transfer.Result {
	row := a.now().row
	if a.moving.Store(r.limiter.take(ctx, a.share.Weight) == nil); a.moving.Load() {
		defer func() {
			if a.moving.Load() {
				r.limiter.give()
			}
		}()
	} // else cancelled while it was queued; it still has to end its items
	if errors.Is(context.Cause(ctx), transfer.ErrPaused) {
		return transfer.Result{}
	}
	if err := r.checkOwner(ctx, row); err != nil && !row.Cancelling {
		return transfer.Result{State: run.Held, Cause: plan.CauseOwner, Why: err.Error()}
	}
	if row.Step == job.Survey {
		return r.surveyRun(ctx, a)
	}
	routes, err := r.reach(ctx, a)
	if err != nil {
		if ctx.Err() != nil && !errors.Is(context.Cause(ctx), transfer.ErrCancelled) {
			return transfer.Result{}
		}
		if errors.Is(context.Cause(ctx), transfer.ErrCancelled) {
			err = transfer.ErrCancelled
		}
		return r.endUnopened(a, err)
	}
	return r.work(ctx, a, routes, resumed)
}

// work carries out a run whose accounts are open.
func (r *Runner) work(ctx context.Context, a *active, routes []transfer.Route, resumed bool) transfer.Result {
	row := a.now().row
	watched, err := r.watchJob(ctx, a, routes, resumed)
	if err != nil {
		return transfer.Result{} // interrupted before it began
	}
	var again func(context.Context, transfer.PassResult) (transfer.Touched, bool)
	if watched != nil {
		defer watched.end()
		again = r.carryingAfter(row, routes, watched.again)
	}
	crew, endCrew := r.crewOf(ctx, a, routes, resumed)
	defer endCrew()
	options := transfer.Options{
		Returned: r.returning.wait,
		Open: func(ctx context.Context, i int) (transfer.Route, error) {
			opened, err := r.openAs(ctx, row.Routes[i:i+1], row.Rules)
			if err == nil && watched != nil {
				err = watched.follow(ctx, i, opened[0])
			}
			if err != nil {
				return transfer.Route{}, err
			}
			return opened[0], nil
		},
		Again: again, Places: placesOf(row), ID: row.ID, Resumed: resumed, Routes: routes, Rules: row.Rules, Records: r.db, Scratch: r.Scratch,
		Log:   r.log,
		Began: row.CreatedAt, Bandwidth: &a.bandwidth, Share: a.share, Approved: row.Approved, Witnessed: true, Job: jobOf(row),
	}
	if crew != nil {
		options.Crew = crew
	}
	work := transfer.New(options)
	now := time.Now()
	a.do(func(s *runState) {
		s.run, s.watch = work, watched
		if resumed {
			s.before = transfer.Snapshot{Done: s.row.Done, Skipped: s.row.Skipped, Failed: s.row.Failed, Moved: s.row.Moved}
		}
		r.become(&s.row, run.Begin, plan.CauseNone, "")
		if s.row.StartedAt == nil {
			s.row.StartedAt = &now
		}
		row = s.row
	})
	// Kept even while the service ends: a run that has begun is not a failed one.
	if err := r.db.SaveRun(context.WithoutCancel(r.ctx), row, "state", "cause", "why", "started_at"); err != nil {
		return transfer.Result{State: run.Failed, Cause: plan.CauseFault, Why: err.Error()}
	}
	r.log.InfoContext(ctx, "run", "run", row.ID, "state", row.State, "resumed", resumed)
	r.hub.Publish(live.Runs, r.contract(row, nil))
	if row.Step == job.FirstPass {
		if refused := r.checkPeople(ctx, row, routes); refused != nil {
			return *refused
		}
	}
	stop := r.record(ctx, a, row, work, resumed)
	result := work.Execute(ctx)
	stop()
	if row.Step != job.FinalPass && result.State != "" { // the certificate of that says it
		r.carriedAnnotations(ctx, row, routes)
	}
	switch row.Step {
	case job.FinalPass:
		return r.certify(ctx, row, routes, result)
	case job.Clear:
		return r.cleared(ctx, row, result)
	}
	return result
}

// placesOf are the places that a run is about; none: all of its routes.
func placesOf(row records.Run) (places []transfer.TouchedPlace) {
	for _, one := range row.Places {
		places = append(places, transfer.TouchedPlace{Route: one.Route, Path: store.Path(one.Path)})
	}
	return places
}

// become has an event happen to a run. One that cannot happen to it is a mistake of ours:
// it is logged, and the state stays.
func (r *Runner) become(row *records.Run, event run.Event, cause plan.Cause, why string) {
	state, err := run.Next(row.State, event)
	if err != nil {
		r.log.Error("a run was to change its state in a way that is not possible", "run", row.ID, "error", err)
	}
	row.State, row.Cause, row.Why = state, string(cause), why
}

// withinItsHours pauses a new run of a job that may not run now.
func (r *Runner) withinItsHours(job records.Job, row *records.Run) {
	if allowed, until := r.scheduler.allowed(job, row.CreatedAt); !allowed {
		r.become(row, run.Pause, plan.CauseHours, outsideHours(until))
	}
}

// launchUnlessPaused has a new run begin, unless its hours have to begin first.
func (r *Runner) launchUnlessPaused(row records.Run) {
	if row.State == run.Paused {
		r.hub.Publish(live.Runs, r.contract(row, nil))
	} else {
		r.launch(row, false)
	}
}
