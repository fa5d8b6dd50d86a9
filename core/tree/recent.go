package tree

import (
	"context"
	"iter"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"deftheron/core/store"
)

// Recent answers listings from a short-lived memory, and freshens it from the
// provider behind the answer. Its zero value with a Tree is ready.
type Recent struct {
	Tree *Tree
	// Changed, where not nil, is called when a listing that was answered from
	// memory turned out to be another by now.
	Changed func(address store.Address)
	// Noticed, where not nil, is told how asking an account went.
	Noticed func(account string, err error)
	// Context ends what is being freshened; nil is never.
	Context context.Context
	// Now is the clock; nil is time.Now.
	Now func() time.Time

	mu       sync.Mutex
	known    map[string]*remembered
	held     int            // entries of all that is known
	forgets  map[string]int // by account: how often it was forgotten
	asking   singleflight.Group
	freshens sync.WaitGroup
}

// remembered is one folder as it was listed.
type remembered struct {
	nodes []Node
	at    time.Time
}

const (
	// keepFor is how long a listing may be answered from memory.
	keepFor = 30 * time.Second
	// freshFor is how old it may be before it is freshened.
	freshFor = 2 * time.Second
	// mostInFolder and mostHeld bound what is held: a larger folder is asked
	// for each time, page by page.
	mostInFolder = 5_000
	mostHeld     = 20_000
)

func (r *Recent) now() time.Time {
	if r.Now != nil {
		return r.Now()
	}
	return time.Now()
}

// List yields what is in a folder as [Tree.List] does, and returns when it was
// listed. With fresh the provider is asked in any case.
func (r *Recent) List(ctx context.Context, address store.Address, fresh bool) (iter.Seq2[Node, error], time.Time) {
	now := r.now()
	if address.IsRoot() {
		return r.Tree.List(ctx, address), now
	}
	switch Sees(ctx, address) { // what is remembered is everything
	case Hidden:
		return r.Tree.List(ctx, address), now
	case Through:
		nodes, at := r.List(WithScope(ctx, nil), address, fresh)
		return through(ctx, nodes), at
	}
	if known := r.lookUp(address, now); known != nil && !fresh {
		if now.Sub(known.at) > freshFor {
			r.freshen(ctx, address, known)
		}
		return yieldAll(known.nodes), known.at
	}
	return r.ask(ctx, address), now
}

func yieldAll(nodes []Node) iter.Seq2[Node, error] {
	return func(yield func(Node, error) bool) {
		for _, node := range nodes {
			if !yield(node, nil) {
				return
			}
		}
	}
}

func (r *Recent) lookUp(address store.Address, now time.Time) *remembered {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.known[address.String()]
	if known != nil && now.Sub(known.at) > keepFor {
		r.drop(address.String())
		return nil
	}
	return known
}

// ask lists from the provider, and remembers what came unless it was too much or
// broke off.
func (r *Recent) ask(ctx context.Context, address store.Address) iter.Seq2[Node, error] {
	return func(yield func(Node, error) bool) {
		at, forgets := r.now(), r.forgotten(address.Account)
		var nodes []Node
		for node, err := range r.Tree.List(ctx, address) {
			if err != nil {
				r.observe(ctx, address.Account, err)
				yield(node, err)
				return
			}
			if len(nodes) <= mostInFolder {
				nodes = append(nodes, node)
			}
			if !yield(node, nil) {
				return
			}
		}
		r.observe(ctx, address.Account, nil)
		r.remember(address, &remembered{nodes, at}, forgets)
	}
}

func (r *Recent) observe(ctx context.Context, account string, err error) {
	if r.Noticed != nil && ctx.Err() == nil {
		r.Noticed(account, err)
	}
}

func (r *Recent) forgotten(account string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.forgets[account]
}

func (r *Recent) remember(address store.Address, fresh *remembered, forgets int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	key := address.String()
	r.drop(key)
	if len(fresh.nodes) > mostInFolder || r.forgets[address.Account] != forgets {
		return // too much, or changed by ourselves while it was listed
	}
	if r.known == nil || r.held+len(fresh.nodes) > mostHeld {
		r.known, r.held = map[string]*remembered{}, 0
	}
	r.known[key] = fresh
	r.held += len(fresh.nodes) + 1
}

// drop forgets one folder. r.mu is held.
func (r *Recent) drop(key string) {
	if known, ok := r.known[key]; ok {
		r.held -= len(known.nodes) + 1
		delete(r.known, key)
	}
}

// freshen asks the provider behind an answer from memory.
func (r *Recent) freshen(ctx context.Context, address store.Address, known *remembered) {
	lasting := r.Context
	if lasting == nil {
		lasting = context.WithoutCancel(ctx)
	}
	r.freshens.Go(func() {
		_, _, _ = r.asking.Do(address.String(), func() (any, error) {
			bounded, cancel := context.WithTimeout(lasting, time.Minute)
			defer cancel()
			var nodes []Node
			for node, err := range r.ask(bounded, address) {
				if err != nil {
					return nil, err
				}
				nodes = append(nodes, node)
			}
			if r.Changed != nil && !slices.EqualFunc(nodes, known.nodes, sameNode) {
				r.Changed(address)
			}
			return nil, nil
		})
	})
}

func sameNode(a, b Node) bool {
	return a.Name == b.Name && a.Kind == b.Kind && a.Size == b.Size && a.Revision == b.Revision && a.Modified.Equal(b.Modified)
}

// Wait returns when nothing is being freshened any more. Whoever ends Context
// calls it before what listings need is closed.
func (r *Recent) Wait() { r.freshens.Wait() }

// Forget forgets all that is known of an account, as something in it was
// changed by ourselves.
func (r *Recent) Forget(account string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.forgets == nil {
		r.forgets = map[string]int{}
	}
	r.forgets[account]++
	for key, known := range r.known {
		if key == "/"+account || len(key) > len(account)+1 && key[:len(account)+2] == "/"+account+"/" {
			r.held -= len(known.nodes) + 1
			delete(r.known, key)
		}
	}
}
