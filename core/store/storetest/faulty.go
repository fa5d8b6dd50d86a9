package storetest

import (
	"context"
	"io"
	"iter"
	"strings"
	"sync"

	"deftheron/core/store"
)

// Op is an operation of a store that can be made to fail.
type Op string

// The operations.
const (
	OpStat       Op = "stat"
	OpList       Op = "list"
	OpOpen       Op = "open"
	OpRead       Op = "read" // the body that Open returned
	OpWrite      Op = "write"
	OpMakeFolder Op = "make-folder"
	OpRemove     Op = "remove"
	OpBegin      Op = "begin"
	OpPart       Op = "part"
	OpCommit     Op = "commit"
	OpMove       Op = "move"
	OpCopy       Op = "copy"
	OpFolder     Op = "remove-folder"
	OpRemoval    Op = "removal" // OpRemove or OpFolder
)

// Fault is what goes wrong: at which operation, where, how often, and how.
type Fault struct {
	Op Op
	// Name of the entry that it happens at; empty is any.
	Name string
	// Times that it happens; 0 is always.
	Times int
	// Err is returned. With After, the operation has been carried out: the
	// answer was lost.
	Err   error
	After bool
	// At is the byte of the body at which Err, or a flipped bit, comes; of
	// a listing, the entry.
	At int64
	// Flip one bit of the body instead of failing.
	Flip bool
	// Do is called when the fault happens; it may change the store beneath.
	Do func()
}

// Faulty is a store that does what the one beneath does, but for its faults.
type Faulty struct {
	store.Store
	mu     sync.Mutex
	faults []*Fault
	hits   map[Op]int
	calls  map[Op]int
}

// NewFaulty wraps a store.
func NewFaulty(beneath store.Store, faults ...Fault) *Faulty {
	f := &Faulty{Store: beneath, hits: map[Op]int{}, calls: map[Op]int{}}
	for _, fault := range faults {
		f.Add(fault)
	}
	return f
}

// Add adds a fault.
func (f *Faulty) Add(fault Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.faults = append(f.faults, &fault)
}

// Clear removes all faults.
func (f *Faulty) Clear() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.faults = nil
}

// Hits is how often a fault happened at an operation.
func (f *Faulty) Hits(op Op) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.hits[op]
}

// Calls is how often an operation was called.
func (f *Faulty) Calls(op Op) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.calls[op]
}

func (f *Faulty) call(op Op, name string) *Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.calls[op]++
	for i, fault := range f.faults {
		if !fault.hits(op, name) {
			continue
		}
		f.hits[op]++
		if fault.Times > 0 {
			if fault.Times--; fault.Times == 0 {
				f.faults = append(f.faults[:i:i], f.faults[i+1:]...)
			}
		}
		if fault.Do != nil {
			fault.Do()
		}
		return fault
	}
	return nil
}

// hits reports whether the fault is of an operation on a name. What is ours is met
// only by its name.
func (f *Fault) hits(op Op, name string) bool {
	if f.Op != op && !(f.Op == OpRemoval && (op == OpRemove || op == OpFolder)) {
		return false
	}
	return f.Name == name || f.Name == "" && !strings.HasPrefix(name, store.ArrivingPrefix)
}

// around calls the operation unless a fault stands before it.
func around[T any](f *Faulty, op Op, name string, do func() (T, error)) (T, error) {
	var none T
	fault := f.call(op, name)
	if fault != nil && fault.Err != nil && !fault.After {
		return none, fault.Err
	}
	value, err := do()
	if fault != nil && fault.Err != nil && err == nil {
		return none, fault.Err
	}
	return value, err
}

// Stat implements store.Store.
func (f *Faulty) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	return around(f, OpStat, place.Name, func() (store.Entry, error) { return f.Store.Stat(ctx, place) })
}

// List implements store.Store.
func (f *Faulty) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	_, name := folder.Path.Split()
	return func(yield func(store.Entry, error) bool) {
		fault := f.call(OpList, name)
		var n int64
		for entry, err := range f.Store.List(ctx, folder) {
			if fault != nil && fault.Err != nil && n == fault.At {
				yield(store.Entry{}, fault.Err)
				return
			}
			n++
			if !yield(entry, err) {
				return
			}
		}
		if fault != nil && fault.Err != nil && n <= fault.At {
			yield(store.Entry{}, fault.Err)
		}
	}
}

// Open implements store.Store.
func (f *Faulty) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	body, err := around(f, OpOpen, reading.Place.Name, func() (io.ReadCloser, error) { return f.Store.Open(ctx, reading) })
	if err != nil {
		return nil, err
	}
	if fault := f.call(OpRead, reading.Place.Name); fault != nil {
		return &faultyBody{ReadCloser: body, fault: fault}, nil
	}
	return body, nil
}

// Write implements store.Store. A fault that flips a bit does so on the way
// into the store.
func (f *Faulty) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	return around(f, OpWrite, writing.Place.Name, func() (store.Written, error) {
		f.mu.Lock()
		for _, fault := range f.faults {
			if fault.Op == OpWrite && fault.Flip && (fault.Name == "" || fault.Name == writing.Place.Name) {
				writing.Content = flippedContent{writing.Content, fault}
			}
		}
		f.mu.Unlock()
		return f.Store.Write(ctx, writing)
	})
}

type flippedContent struct {
	store.Content
	fault *Fault
}

func (c flippedContent) Open(ctx context.Context) (*store.Stream, error) {
	stream, err := c.Content.Open(ctx)
	if err != nil {
		return nil, err
	}
	return store.NewStream(&faultyBody{ReadCloser: stream, fault: c.fault}, store.CRC64NVME, nil), nil
}

// MakeFolder implements store.Store.
func (f *Faulty) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	return around(f, OpMakeFolder, place.Name, func() (store.Entry, error) { return f.Store.MakeFolder(ctx, place) })
}

// Remove implements store.Store.
func (f *Faulty) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	return around(f, OpRemove, place.Name, func() (store.Removal, error) { return f.Store.Remove(ctx, place, revision) })
}

// RemoveFolder implements store.Store.
func (f *Faulty) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	return around(f, OpFolder, place.Name, func() (store.Removal, error) { return f.Store.RemoveFolder(ctx, place) })
}

// Capabilities implements store.Store: those of the store beneath, of which some can
// be made to fail.
func (f *Faulty) Capabilities() store.Capabilities {
	c := f.Store.Capabilities()
	if list := c.ListFlat; list != nil {
		c.ListFlat = func(ctx context.Context, folder store.Folder) iter.Seq2[store.Listed, error] {
			return f.listFlat(list(ctx, folder), folder)
		}
	}
	if beneath := c.Parts; beneath != nil {
		c.Parts = faultyParts{beneath, f}
	}
	if move := c.Move; move != nil {
		c.Move = func(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
			return around(f, OpMove, from.Name, func() (store.Entry, error) { return move(ctx, from, revision, to) })
		}
	}
	if copyWithin := c.Copy; copyWithin != nil {
		c.Copy = func(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
			return around(f, OpCopy, from.Name, func() (store.Entry, error) { return copyWithin(ctx, from, revision, to, run) })
		}
	}
	return c
}

// listFlat has the faults of listing each folder happen in a flat listing.
func (f *Faulty) listFlat(listing iter.Seq2[store.Listed, error], folder store.Folder) iter.Seq2[store.Listed, error] {
	type state struct {
		fault *Fault
		n     int64
	}
	return func(yield func(store.Listed, error) bool) {
		folders := map[store.Path]*state{}
		fails := func(below store.Path) error {
			one := folders[below]
			if one == nil {
				_, name := (folder.Path + below).Split()
				one = &state{fault: f.call(OpList, name)}
				folders[below] = one
			}
			one.n++
			if one.fault != nil && one.fault.Err != nil && one.n > one.fault.At {
				return one.fault.Err
			}
			return nil
		}
		if err := fails(""); err != nil {
			yield(store.Listed{}, err)
			return
		}
		folders[""].n = 0
		for listed, err := range listing {
			if err == nil {
				err = fails(listed.Below)
			}
			if !yield(listed, err) || err != nil {
				return
			}
		}
	}
}

type faultyParts struct {
	store.PartWriter
	f *Faulty
}

// BeginParts implements store.PartWriter.
func (p faultyParts) BeginParts(ctx context.Context, writing store.Writing) (string, error) {
	return around(p.f, OpBegin, writing.Place.Name, func() (string, error) { return p.PartWriter.BeginParts(ctx, writing) })
}

// WritePart implements store.PartWriter.
func (p faultyParts) WritePart(ctx context.Context, writing store.Writing, upload string, number int, size int64,
	stream *store.Stream) (store.Part, error) {
	return around(p.f, OpPart, writing.Place.Name, func() (store.Part, error) {
		return p.PartWriter.WritePart(ctx, writing, upload, number, size, stream)
	})
}

// CommitParts implements store.PartWriter.
func (p faultyParts) CommitParts(ctx context.Context, writing store.Writing, upload string, parts []store.Part) (store.Written, error) {
	return around(p.f, OpCommit, writing.Place.Name, func() (store.Written, error) {
		return p.PartWriter.CommitParts(ctx, writing, upload, parts)
	})
}

type faultyBody struct {
	io.ReadCloser
	fault *Fault
	n     int64
}

func (b *faultyBody) Read(p []byte) (int, error) {
	if !b.fault.Flip && b.fault.Err != nil {
		if b.n >= b.fault.At {
			return 0, b.fault.Err
		}
		p = p[:min(int64(len(p)), b.fault.At-b.n)]
	}
	n, err := b.ReadCloser.Read(p)
	if at := b.fault.At - b.n; b.fault.Flip && at >= 0 && at < int64(n) {
		p[at] ^= 1
	}
	b.n += int64(n)
	return n, err
}

// Text is content of a string, for writes in tests.
type Text string

// Open implements store.Content.
func (s Text) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(strings.NewReader(string(s))), store.CRC64NVME, nil), nil
}
