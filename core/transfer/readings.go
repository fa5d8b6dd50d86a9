package transfer

import (
	"bytes"
	"container/list"
	"io"
	"os"
	"sync"

	"deftheron/core/store"
)

// readings are the contents of a run that go to several targets: each is read once, by
// whichever target is ahead, and kept until the others have had it, as long as there is
// room. A target that falls further behind reads the source itself.
type readings struct {
	dir string

	mu     sync.Mutex
	all    map[readingKey]*reading
	order  list.List // of *reading, the one that was used last in front
	inFile int64     // bytes in files
	inMem  int64     // bytes in memory
}

// readingKey is a content at the source.
type readingKey struct{ account, place, revision string }

const (
	// inMemory is up to which size, in bytes, a content is kept in memory, and mostInMemory
	// how much of such.
	inMemory     = 256 << 10
	mostInMemory = 32 << 20
	// readingCost is what a reading takes beside its content, about.
	readingCost = 1 << 10
	// mostShared is the largest size of a content that is read once for several targets, and
	// mostInFiles how many bytes of such contents are kept in files.
	mostShared  = 1 << 30
	mostInFiles = 4 << 30
)

func newReadings(dir string) *readings { return &readings{dir: dir, all: map[readingKey]*reading{}} }

// close removes what is kept.
func (r *readings) close() {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for at := r.order.Front(); at != nil; at = r.order.Front() {
		r.drop(at.Value.(*reading))
	}
}

// drop forgets a reading. Those who read it go on. r.mu is held.
func (r *readings) drop(one *reading) {
	if one.at == nil {
		return
	}
	r.order.Remove(one.at)
	one.at = nil
	delete(r.all, one.key)
	if one.size <= inMemory {
		r.inMem -= one.size + readingCost
	} else {
		r.inFile -= one.size
	}
	one.release()
}

// get returns the reading of a content of a size for so many targets; nil where there is no
// room for it.
func (r *readings) get(key readingKey, size int64, targets int) *reading {
	r.mu.Lock()
	defer r.mu.Unlock()
	if one := r.all[key]; one != nil {
		r.order.MoveToFront(one.at)
		return one
	}
	held, most, takes := &r.inFile, int64(mostInFiles), size
	if size <= inMemory {
		held, most, takes = &r.inMem, mostInMemory, size+readingCost
	}
	for at := r.order.Back(); at != nil && *held+takes > most; {
		one, before := at.Value.(*reading), at.Prev()
		if (one.size <= inMemory) == (size <= inMemory) && !one.isUsed() {
			r.drop(one)
		}
		at = before
	}
	if *held+takes > most {
		return nil
	}
	one := &reading{of: r, key: key, size: size, targets: targets, had: map[int]int64{}}
	one.more = sync.NewCond(&one.mu)
	one.at = r.order.PushFront(one)
	r.all[key] = one
	*held += takes
	return one
}

// reading is one content, as far as it was read.
type reading struct {
	of      *readings
	key     readingKey
	size    int64
	targets int
	at      *list.Element // of readings; nil once it is dropped

	mu     sync.Mutex
	more   *sync.Cond // there is more, or nobody reads the source any more
	busy   bool       // somebody reads the source
	body   io.ReadCloser
	hashes store.Hashes // that came with the body
	data   []byte       // what was read, in memory
	file   *os.File     // or in a file
	n      int64        // bytes that were read
	ended  error        // io.EOF at the end
	users  int
	had    map[int]int64 // bytes that routes had
	gone   bool
}

func (one *reading) isUsed() bool {
	one.mu.Lock()
	defer one.mu.Unlock()
	return one.users > 0
}

// release closes what a reading holds, once nobody uses it.
func (one *reading) release() {
	one.mu.Lock()
	defer one.mu.Unlock()
	one.gone = true
	one.free()
}

// free closes what nobody needs any more. one.mu is held.
func (one *reading) free() {
	if one.users > 0 || !one.gone {
		return
	}
	if one.body != nil {
		one.body.Close()
		one.body = nil
	}
	if one.file != nil {
		one.file.Close()
		one.file = nil
	}
	one.data = nil
}

// open reads it, or length bytes of it from an offset on, for a route; 0 is to the end.
// source begins to read at the source, if nobody has started.
func (one *reading) open(route int, offset, length int64, source func() (io.ReadCloser, error)) (io.ReadCloser, error) {
	one.mu.Lock()
	defer one.mu.Unlock()
	for one.busy {
		one.more.Wait()
	}
	if one.body == nil && one.ended == nil && !one.gone {
		one.busy = true
		one.mu.Unlock()
		body, err := source()
		one.mu.Lock()
		one.busy = false
		one.more.Broadcast()
		if err != nil {
			return nil, err
		}
		one.body = body
		if told, ok := body.(store.ContentHasher); ok {
			one.hashes = told.ContentHashes()
		}
	}
	if one.gone {
		return nil, store.Errorf(store.ErrTryAgain, "what was read for several targets is not kept any more")
	}
	one.users++
	end := one.size
	if length > 0 {
		end = min(end, offset+length)
	}
	body := &sharedBody{of: one, route: route, begin: offset, at: offset, end: end, toEnd: length == 0}
	if offset == 0 && length == 0 {
		return wholeShared{body}, nil
	}
	return body, nil
}

// sharedBody is a content that is read for several targets, for one of them.
type sharedBody struct {
	of      *reading
	route   int
	begin   int64
	at, end int64
	toEnd   bool
	closed  bool
}

// wholeShared is all of a content, with the hashes that the source keeps of it.
type wholeShared struct{ *sharedBody }

// ContentHashes implements store.ContentHasher.
func (w wholeShared) ContentHashes() store.Hashes { return w.of.hashes }

// Read implements io.Reader: it returns what was read before, and then reads on from the
// source.
func (b *sharedBody) Read(p []byte) (int, error) {
	one := b.of
	if !b.toEnd {
		if b.at >= b.end {
			return 0, io.EOF
		}
		p = p[:min(int64(len(p)), b.end-b.at)]
	}
	one.mu.Lock()
	for one.n <= b.at && one.ended == nil {
		if one.busy {
			one.more.Wait()
			continue
		}
		one.fill()
	}
	n := min(int64(len(p)), one.n-b.at)
	data, file, ended := one.data, one.file, one.ended
	one.mu.Unlock()
	if n <= 0 {
		return 0, ended
	}
	p = p[:n]
	b.at += n
	if file == nil {
		copy(p, data[b.at-n:])
		return int(n), nil
	}
	_, err := file.ReadAt(p, b.at-n)
	return int(n), err
}

// fill reads once more from the source. one.mu is held, and let go while it reads.
func (one *reading) fill() {
	one.busy = true
	body, at := one.body, one.n
	one.mu.Unlock()
	buffer := make([]byte, min(inMemory, max(one.size-at, 0)+1))
	n, err := body.Read(buffer)
	if n > 0 {
		if kept := one.keep(buffer[:n], at); kept != nil {
			n, err = 0, kept
		}
	}
	one.mu.Lock()
	one.n += int64(n)
	one.ended = err
	one.busy = false
	one.more.Broadcast()
}

// keep keeps the bytes read at an offset. Only one goroutine may call it at a time.
func (one *reading) keep(read []byte, at int64) error {
	if one.size <= inMemory {
		one.mu.Lock()
		defer one.mu.Unlock()
		one.data = append(bytes.Clone(one.data), read...) // those who read have the old one
		return nil
	}
	if one.file == nil {
		file, err := os.CreateTemp(one.of.dir, "spool-*")
		if err != nil {
			return store.Errorf(store.ErrTryAgain, "there is no room for what has to be kept meanwhile: %w", err)
		}
		if err := os.Remove(file.Name()); err != nil {
			return err
		}
		one.mu.Lock()
		one.file = file
		one.mu.Unlock()
	}
	if _, err := one.file.WriteAt(read, at); err != nil {
		return store.Errorf(store.ErrTryAgain, "what has to be kept meanwhile could not be written: %w", err)
	}
	return nil
}

// Close implements io.Closer. A reading that all targets had is dropped.
func (b *sharedBody) Close() error {
	one := b.of
	if b.closed {
		return nil
	}
	b.closed = true
	one.mu.Lock()
	one.users--
	one.had[b.route] += b.at - b.begin
	had := 0
	for _, n := range one.had {
		if n >= one.size {
			had++
		}
	}
	broken := one.ended != nil && (one.ended != io.EOF || one.n != one.size) //nolint:errorlint // the value of a plain end
	drop := had >= one.targets || broken
	one.free()
	one.mu.Unlock()
	if drop {
		one.of.mu.Lock()
		one.of.drop(one)
		one.of.mu.Unlock()
	}
	return nil
}

// sharedReading returns the reading of the item's content, where other targets want it too.
// A further try reads the source itself.
func (a *attempt) sharedReading() (*reading, bool) {
	if a.readings == nil || a.try > 1 || a.from != nil || a.item.Source.Revision == "" || a.item.Size <= 0 || a.item.Size > mostShared {
		return nil, false
	}
	targets := a.siblings[a.item.Route]
	if targets < 2 {
		return nil, false
	}
	key := readingKey{a.route.Source.Account, a.source().String(), a.item.Source.Revision}
	one := a.readings.get(key, a.item.Size, targets)
	return one, one != nil
}
