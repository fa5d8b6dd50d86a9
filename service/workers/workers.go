// Package workers looks after the workers: machines that reach places which the service does
// not. A worker is created, joins with a code that is good once, and connects to the service:
// it is sent requests over messages (NATS, which the service embeds), and brings large answers
// as HTTP streams. Nothing of it runs before the first worker is created.
package workers

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
	"deftheron/service/workers/stream"
)

// Workers are the workers of a service.
type Workers struct {
	db  *records.DB
	log *slog.Logger
	// Version is the version of the program; workers may have another.
	Version string
	// Changed is called after a worker was created, joined, came, went or was removed.
	Changed func()
	// Came is called after a worker has connected.
	Came func()
	// Away is called once when a worker has been gone for awayFor, with its accounts.
	Away func(name, site string, accounts []string)
	// SiteLimiter returns what limits the line of a site, by its name: up is what leaves the site.
	SiteLimiter func(site string) *bandwidth.Limiter
	// Distrusted is called when a worker has said what was not so.
	Distrusted func(name, why string)

	ctx    context.Context // ends with the service
	group  sync.WaitGroup  // of what goes on until then
	now    func() time.Time
	mu     sync.Mutex
	bus    *bus // nil until the first worker is created
	there  map[string]*presence
	calls  map[string]*call  // by token
	relays map[string]*relay // connections, by their names
	// secrets are those that workers were given, by account.
	secrets map[string][]kept
	// grants are which workers may have accounts of the service, by the ids of both.
	grants map[string]map[string]bool
	crews  map[string]*Crew      // by run
	room   chan struct{}         // closed when a worker may have come, gone or got room
	gates  map[string]*gate.Gate // of accounts that workers open, by id

	// Store is the folder in which the units of work are kept; empty keeps them in memory.
	Store string
	// Cluster is how the message server outside is reached that keeps the units; the zero value is none.
	Cluster Cluster
	opening sync.Mutex
	queue   *stream.Queue // nil until the first run with a crew
	// onlyWorkers says that the service leaves to workers what they can copy.
	onlyWorkers atomic.Bool
}

// New returns the workers of the records. What they do ends with the context.
func New(ctx context.Context, db *records.DB, log *slog.Logger) *Workers {
	return &Workers{db: db, log: log, ctx: ctx, now: time.Now, Changed: func() {}, Came: func() {}, Away: func(string, string, []string) {},
		Distrusted: func(string, string) {}, SiteLimiter: func(string) *bandwidth.Limiter { return &bandwidth.Limiter{} },
		there: map[string]*presence{}, calls: map[string]*call{},
		relays: map[string]*relay{}, secrets: map[string][]kept{}, grants: map[string]map[string]bool{}, crews: map[string]*Crew{},
		room: make(chan struct{}), gates: map[string]*gate.Gate{}}
}

// Resume starts what workers connect to, if there are any.
func (w *Workers) Resume(ctx context.Context) error {
	rows, err := w.db.Workers(ctx)
	if err == nil {
		err = w.loadGrants(ctx)
	}
	if err == nil {
		err = w.loadOnly(ctx)
	}
	if err != nil || len(rows) == 0 {
		return err
	}
	return w.start()
}

// start starts what workers connect to, once.
func (w *Workers) start() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.bus != nil {
		return nil
	}
	started, err := startBus(w)
	if err != nil {
		return err
	}
	w.bus = started
	w.group.Go(w.watch)
	return nil
}

// Running reports whether workers can connect.
func (w *Workers) Running() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.bus != nil
}

// Close ends all connections, after the context has ended.
func (w *Workers) Close() {
	w.mu.Lock()
	started := w.bus
	w.bus = nil
	relays := w.relays
	w.relays = map[string]*relay{}
	w.mu.Unlock()
	for _, one := range relays {
		_ = one.connection.Close()
	}
	if started != nil {
		started.close()
	}
	w.group.Wait()
}

// States of a worker.
const (
	Waiting   = "waiting"   // to join, with its code
	Expired   = "expired"   // its code is too old
	Connected = "connected" // it is there
	Draining  = "draining"  // it is there, and takes nothing new
	Offline   = "offline"   // it has joined, and is not there
	Outdated  = "outdated"  // it is there, and speaks another version of the protocol
	Untrusted = "untrusted" // it has said what was not so, and gets nothing more
)

// Worker is a worker as it is now.
type Worker struct {
	records.Worker
	State string
	// Requests are those that it is answering; Load, Processors and Memory what it said last.
	Requests, Processors int
	Load                 float64
	Memory               int64
	// For are the names of the accounts that are reached through its site, and Granted those of others
	// that it may have. Managers are the names of the users who manage it beside the owners.
	For, Granted, Managers []string
	// Lanes is how many contents it copies at once, and Items how many it has in its hands.
	Lanes, Items int
}

// List returns all workers, by name.
func (w *Workers) List(ctx context.Context) ([]Worker, error) {
	rows, err := w.db.Workers(ctx)
	if err != nil {
		return nil, err
	}
	accounts, err := w.db.AccountsAtSite(ctx, "")
	if err != nil {
		return nil, err
	}
	grants, err := w.db.WorkerGrants(ctx)
	if err != nil {
		return nil, err
	}
	managers, err := w.db.WorkerManagers(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]Worker, 0, len(rows))
	for _, row := range rows {
		one := w.shown(row)
		for _, grant := range grants {
			if grant.Worker == row.ID {
				one.Granted = append(one.Granted, grant.Name)
			}
		}
		for _, manager := range managers {
			if manager.Worker == row.ID {
				one.Managers = append(one.Managers, manager.Name)
			}
		}
		for _, account := range accounts {
			if account.Site == row.Site && (account.Worker == "" || account.Worker == row.ID) {
				one.For = append(one.For, account.Name)
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// States returns the states of all workers, by name.
func (w *Workers) States(ctx context.Context) (map[string]string, error) {
	all, err := w.List(ctx)
	states := map[string]string{}
	for _, one := range all {
		states[one.Name] = one.State
	}
	return states, err
}

// shown is a worker with what it said last.
func (w *Workers) shown(row records.Worker) Worker {
	one := Worker{Worker: row, State: Offline}
	w.mu.Lock()
	defer w.mu.Unlock()
	p := w.there[row.ID]
	switch {
	case row.JoinedAt == nil && row.CodeEnds != nil && w.now().Before(*row.CodeEnds):
		one.State = Waiting
	case row.JoinedAt == nil:
		one.State = Expired
	case p == nil:
		return one
	case !p.speaks():
		one.State = Outdated
	case row.Distrusted != "":
		one.State = Untrusted
	case row.Draining:
		one.State = Draining
	default:
		one.State = Connected
	}
	if p != nil {
		one.Requests, one.Load, one.Processors, one.Memory = len(p.calls), p.said.Load, p.said.Processors, p.said.Memory
		one.Lanes, one.Items = p.said.Lanes, p.items
	}
	return one
}

// Resolve returns the site that a name stands for: the name of a site, or of a worker there. It returns
// a worker, by its id, if that is what the name is of, or if the account is at a folder of that
// machine.
func (w *Workers) Resolve(ctx context.Context, name string, ofMachine bool) (site, worker string, err error) {
	rows, err := w.db.Workers(ctx)
	if err != nil {
		return "", "", err
	}
	var sites, at []string
	for _, row := range rows {
		sites = append(sites, row.Site)
		if row.Site == name {
			site, worker = name, row.ID
			at = append(at, row.Name)
		}
	}
	switch {
	case site == "":
		for _, row := range rows {
			if row.Name == name {
				return row.Site, row.ID, nil
			}
		}
		slices.Sort(sites)
		return "", "", remedy.Errorf("there is no site and no worker %q; choose one of %s, or create a worker",
			name, cmp.Or(strings.Join(slices.Compact(sites), ", "), "none"))
	case ofMachine && len(at) > 1:
		return "", "", remedy.Errorf("the site %s has several workers, and a folder is on one machine; name the worker: %s", name,
			strings.Join(at, " or "))
	case !ofMachine:
		worker = ""
	}
	return site, worker, nil
}

// missing is the error of a worker that is not there.
func missing(name string) error {
	return store.Errorf(store.ErrNotFound, "there is no worker %q; list the workers", name)
}
