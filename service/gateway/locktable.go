package gateway

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"deftheron/core/store"
	"deftheron/service/records"
)

const (
	// mostLocks is how many locks clients may hold at once, and mostLocksEach how many on one entry.
	mostLocks, mostLocksEach = 10_000, 32
	// longestLock is how long a lock lasts before its client has to renew it.
	longestLock = time.Hour
)

// held is a lock of a client.
type held struct {
	records.GatewayLock
	address store.Address
}

// lockTable has the locks of all clients, which are in the records too, so that they outlive the
// service. Its zero value reads them when it is first asked.
type lockTable struct {
	mu      sync.Mutex
	read    bool
	at      map[string][]*held // by what is locked
	byToken map[string]*held
}

// keyOf is what locks are found by: a file and a folder of one name count as one.
func keyOf(address store.Address) string {
	address.Folder = false
	return address.String()
}

// load reads the locks from the records, and drops those that have expired. t.mu is held.
func (t *lockTable) load(ctx context.Context, g *Gateway) error {
	if !t.read {
		rows, err := g.DB.GatewayLocks(ctx)
		if err != nil {
			return err
		}
		t.at, t.byToken, t.read = map[string][]*held{}, map[string]*held{}, true
		for _, row := range rows {
			if address, err := store.ParseAddress(row.Address); err == nil {
				t.add(&held{row, address})
			}
		}
	}
	return nil
}

func (t *lockTable) add(lock *held) {
	key := keyOf(lock.address)
	t.at[key] = append(t.at[key], lock)
	t.byToken[lock.Token] = lock
}

// drop forgets a lock and removes it from the records. t.mu is held.
func (t *lockTable) drop(ctx context.Context, g *Gateway, lock *held) error {
	key := keyOf(lock.address)
	left := t.at[key][:0:0]
	for _, other := range t.at[key] {
		if other != lock {
			left = append(left, other)
		}
	}
	if t.at[key] = left; len(left) == 0 {
		delete(t.at, key)
	}
	delete(t.byToken, lock.Token)
	return g.DB.RemoveGatewayLock(context.WithoutCancel(ctx), lock.Token)
}

// live returns the locks on exactly an address that have not expired. t.mu is held.
func (t *lockTable) live(ctx context.Context, g *Gateway, address store.Address) (locks []*held) {
	for _, lock := range t.at[keyOf(address)] {
		if g.Now().Before(lock.Expires) {
			locks = append(locks, lock)
		} else if err := t.drop(ctx, g, lock); err != nil {
			g.Log.WarnContext(ctx, "a lock that has expired could not be removed", "address", lock.Address, "error", err)
		}
	}
	return locks
}

// covering returns copies of the locks on an address, and of those on folders around it that hold for
// all in them.
func (t *lockTable) covering(ctx context.Context, g *Gateway, address store.Address) (locks []*held, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.load(ctx, g); err != nil || len(t.byToken) == 0 {
		return nil, err
	}
	for _, lock := range t.over(ctx, g, address) {
		copied := *lock
		locks = append(locks, &copied)
	}
	return locks, nil
}

// over is covering, with t.mu held.
func (t *lockTable) over(ctx context.Context, g *Gateway, address store.Address) (locks []*held) {
	locks = t.live(ctx, g, address)
	for len(address.Steps) > 0 {
		address = address.Parent()
		for _, lock := range t.live(ctx, g, address) {
			if lock.Deep {
				locks = append(locks, lock)
			}
		}
	}
	return locks
}

// below returns the locks in a folder. t.mu is held.
func (t *lockTable) below(g *Gateway, folder store.Address) (locks []*held) {
	folder.Folder = false
	for _, lock := range t.byToken {
		if g.Now().Before(lock.Expires) && folder.Contains(lock.address) && keyOf(folder) != keyOf(lock.address) {
			locks = append(locks, lock)
		}
	}
	return locks
}

// change is how a request changes an entry.
type change struct {
	address store.Address
	// whole changes what is in a folder too; named changes the list of the folder that it is in.
	whole, named bool
}

// check returns a refusal if locks forbid a request its changes: of those on each entry, the client
// has to show one that is its user's.
func (g *Gateway) check(q *request, changes ...change) error {
	t := &g.locks
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.load(q.ctx, g); err != nil || len(t.byToken) == 0 {
		return err
	}
	user, _ := g.Service.User(q.ctx)
	shown := q.conditions.tokens()
	allowed := func(locks []*held) bool {
		for _, lock := range locks {
			if lock.User == user && shown[lock.Token] {
				return true
			}
		}
		return len(locks) == 0
	}
	for _, one := range changes {
		groups := [][]*held{t.over(q.ctx, g, one.address)}
		if one.named && len(one.address.Steps) > 0 {
			groups = append(groups, t.over(q.ctx, g, one.address.Parent()))
		}
		if one.whole {
			byAddress := map[string][]*held{}
			for _, lock := range t.below(g, one.address) {
				byAddress[lock.Address] = append(byAddress[lock.Address], lock)
			}
			for _, locks := range byAddress {
				groups = append(groups, locks)
			}
		}
		for _, locks := range groups {
			if !allowed(locks) {
				return fail(http.StatusLocked, "<D:lock-token-submitted><D:href>"+escape(place{}.href(locks[0].address, store.KindFile))+
					"</D:href></D:lock-token-submitted>", "%s is locked by %s; wait for that lock to end", locks[0].address, locks[0].By)
			}
		}
	}
	return nil
}

// take adds a lock unless others are in its way.
func (t *lockTable) take(ctx context.Context, g *Gateway, lock records.GatewayLock, address store.Address) (*held, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.load(ctx, g); err != nil {
		return nil, err
	}
	others := t.over(ctx, g, address)
	if lock.Deep {
		others = append(others, t.below(g, address)...)
	}
	for _, other := range others {
		if !lock.Shared || !other.Shared {
			return nil, fail(http.StatusLocked, "<D:no-conflicting-lock><D:href>"+escape(place{}.href(other.address, store.KindFile))+
				"</D:href></D:no-conflicting-lock>", "%s is locked by %s", other.address, other.By)
		}
	}
	if len(t.byToken) >= mostLocks || len(others) >= mostLocksEach {
		return nil, fail(http.StatusServiceUnavailable, "", "there are too many locks; end some that are not needed")
	}
	lock.Token = "urn:uuid:" + uuid.NewString()
	taken := &held{lock, address}
	taken.Address = keyOf(address)
	if err := g.DB.SetGatewayLock(ctx, taken.GatewayLock); err != nil {
		return nil, err
	}
	t.add(taken)
	return taken, nil
}

// byName returns the lock of a token that covers an address, nil if there is none.
func (t *lockTable) byName(ctx context.Context, g *Gateway, token string, address store.Address) (*held, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.load(ctx, g); err != nil {
		return nil, err
	}
	for _, lock := range t.over(ctx, g, address) {
		if lock.Token == token {
			return lock, nil
		}
	}
	return nil, nil
}

// update changes a lock, also in the records.
func (t *lockTable) update(ctx context.Context, g *Gateway, lock *held, change func(*held)) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	change(lock)
	return g.DB.SetGatewayLock(context.WithoutCancel(ctx), lock.GatewayLock)
}

// end ends a lock, and the service's own that was made with it.
func (g *Gateway) end(ctx context.Context, lock *held) error {
	if lock.Made {
		if err := g.Locks.Unlock(ctx, lock.address); err != nil && store.KindOf(err) != store.ErrNotFound {
			return err
		}
	}
	g.locks.mu.Lock()
	defer g.locks.mu.Unlock()
	return g.locks.drop(ctx, g, lock)
}

// gone ends the locks on an entry that is not there any more, and on everything in it.
func (g *Gateway) gone(ctx context.Context, address store.Address) {
	g.locks.mu.Lock()
	defer g.locks.mu.Unlock()
	if g.locks.load(ctx, g) != nil || len(g.locks.byToken) == 0 {
		return
	}
	for _, lock := range append(g.locks.live(ctx, g, address), g.locks.below(g, address)...) {
		if err := g.locks.drop(ctx, g, lock); err != nil {
			g.Log.WarnContext(ctx, "a lock on what is gone could not be removed", "address", lock.Address, "error", err)
		}
	}
}
