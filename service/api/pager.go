package api

import (
	"context"
	"encoding/base64"
	"iter"
	"maps"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
)

const (
	// pagerTime is how long a listing is kept open for its next page.
	pagerTime = time.Minute
	// mostOpen is how many are kept; the oldest goes.
	mostOpen = 32
	// fewOpen is how many are kept while the service holds more than muchHeld bytes:
	// listings of large folders hold all their names.
	fewOpen  = 2
	muchHeld = 48 << 20
)

// pager cuts listings into pages. Between two pages the listing stands still
// and is gone on with, so that page after page of a large folder costs one
// listing; where it is no longer kept, the folder is listed again up to the
// entry that the cursor names.
type pager struct {
	tree *tree.Recent
	past func(at time.Time) *tree.Tree
	mu   sync.Mutex
	seq  int
	open map[int]*openListing
}

// folderAt is a folder at a time, as a user sees it; the zero time is now.
type folderAt struct {
	address store.Address
	at      time.Time
	// by is the id of the token or the session that asks: what one of them sees, another may not.
	by string
}

func (l folderAt) is(other folderAt) bool {
	return l.address.String() == other.address.String() && l.at.Equal(other.at) && l.by == other.by
}

type openListing struct {
	folderAt
	listed  time.Time
	next    func() (tree.Node, error, bool)
	stop    func()
	ahead   *tree.Node // read, not given yet
	expires *time.Timer
	given   int
}

// large is how many entries of a listing are worth giving their memory back to
// the system at its end.
const large = 10_000

// end ends a listing. What a large one needed goes back now, not minutes later.
func (l *openListing) end() {
	l.stop()
	if l.given > large {
		debug.FreeOSMemory()
	}
}

func newPager(t *tree.Recent, past func(time.Time) *tree.Tree) *pager {
	return &pager{tree: t, past: past, open: map[int]*openListing{}}
}

// page returns up to limit entries after a cursor. With fresh the provider is
// asked, however lately it was.
func (p *pager) page(ctx context.Context, of folderAt, cursor string, limit int, fresh bool) (page contract.Page, nodes []tree.Node,
	err error) {
	page.Entries = []contract.Entry{}
	if tree.Sees(ctx, of.address) == tree.Hidden { // also what was listed before a grant was taken away
		return page, nil, tree.CheckSeen(ctx, of.address)
	}
	l, after, err := p.resume(ctx, of, cursor, fresh)
	if err != nil {
		return page, nil, err
	}
	page.Listed = l.listed
	for len(page.Entries) < limit {
		node, err, ok := l.step()
		if err != nil {
			l.stop()
			return contract.Page{}, nil, err
		}
		if !ok {
			l.end()
			return page, nodes, nil
		}
		if after != nil && !after.before(node) {
			continue
		}
		page.Entries, nodes = append(page.Entries, entryOf(node)), append(nodes, node)
		l.given++
		after = nil
	}
	node, err, ok := l.step()
	if err != nil || !ok {
		l.end()
		return page, nodes, err
	}
	l.ahead = &node
	page.Next = p.keep(l, page.Entries[len(page.Entries)-1])
	return page, nodes, nil
}

func (l *openListing) step() (tree.Node, error, bool) {
	if l.ahead != nil {
		node := *l.ahead
		l.ahead = nil
		return node, nil, true
	}
	return l.next()
}

// position is an entry that a cursor names.
type position struct {
	name string
	kind store.Kind
}

func (p position) before(node tree.Node) bool {
	return store.CompareKeys(store.KeyOf("", p.name, p.kind), p.kind, store.KeyOf("", node.Name, node.Kind), node.Kind) < 0
}

func (p *pager) resume(ctx context.Context, of folderAt, cursor string, fresh bool) (*openListing, *position, error) {
	var after *position
	if cursor != "" {
		number, kind, name, ok := readCursor(cursor)
		if !ok {
			return nil, nil, store.Errorf(store.ErrRefused, "the cursor %q is none; leave it out for the first page", cursor)
		}
		p.mu.Lock()
		var l *openListing
		if known := p.open[number]; known != nil && known.is(of) {
			l = p.take(number)
		}
		p.mu.Unlock()
		if l != nil {
			return l, nil, nil
		}
		after = &position{name, store.Kind(kind)}
	}
	p.mu.Lock()
	p.makeRoom(1)
	p.mu.Unlock()
	// The listing outlives the request that begins it.
	lasting, cancel := context.WithCancel(context.WithoutCancel(ctx))
	nodes, listed := p.list(lasting, of, fresh)
	next, stop := iter.Pull2(nodes)
	return &openListing{folderAt: of, listed: listed, next: next, stop: func() { stop(); cancel() }}, after, nil
}

func (p *pager) list(ctx context.Context, of folderAt, fresh bool) (iter.Seq2[tree.Node, error], time.Time) {
	if of.at.IsZero() {
		return p.tree.List(ctx, of.address, fresh)
	}
	return p.past(of.at).List(ctx, of.address), time.Now()
}

func (p *pager) keep(l *openListing, last contract.Entry) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.seq++
	number := p.seq
	p.open[number] = l
	l.expires = time.AfterFunc(pagerTime, func() { p.expire(number) })
	p.makeRoom(0)
	return strconv.Itoa(number) + "." + last.Kind + "." + base64.RawURLEncoding.EncodeToString([]byte(last.Name))
}

// makeRoom ends the oldest listings, so that some more can be kept. Their memory is not
// given back, as the new ones need as much. The lock is held.
func (p *pager) makeRoom(more int) {
	most := mostOpen
	if len(p.open)+more > fewOpen && held() > muchHeld {
		most = fewOpen
	}
	for len(p.open)+more > most {
		go p.take(slices.Min(slices.Collect(maps.Keys(p.open)))).stop()
	}
}

// held is how many bytes the objects of this process take.
func held() uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(sample)
	return sample[0].Value.Uint64()
}

// take takes an open listing out; without one of that number it returns nil. The lock is held.
func (p *pager) take(number int) *openListing {
	l := p.open[number]
	if l != nil {
		delete(p.open, number)
		l.expires.Stop()
	}
	return l
}

// expire ends a listing that was not continued in time.
func (p *pager) expire(number int) {
	p.mu.Lock()
	l := p.take(number)
	p.mu.Unlock()
	if l != nil {
		l.given = large + 1 // how many it would have been, nobody knows
		l.end()
	}
}

func readCursor(cursor string) (number int, kind, name string, ok bool) {
	parts := strings.SplitN(cursor, ".", 3)
	if len(parts) != 3 {
		return 0, "", "", false
	}
	number, err := strconv.Atoi(parts[0])
	decoded, err2 := base64.RawURLEncoding.DecodeString(parts[2])
	return number, parts[1], string(decoded), err == nil && err2 == nil
}
