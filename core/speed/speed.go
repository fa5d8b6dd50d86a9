// Package speed measures how fast an account writes, reads and removes.
package speed

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"deftheron/core/remedy"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// Options are what is measured with.
type Options struct {
	// Size of each scratch file in bytes.
	Size int64
	// Number of scratch files.
	Number int
	// Lanes are how many of them go at once.
	Lanes int
	// Now is the clock.
	Now func() time.Time
	// Run marks the scratch files: letters and digits.
	Run string
	// Progress, where it is not nil, is told of each file that was done, out of
	// three times Number. Calls do not overlap.
	Progress func(done int)
}

// Phase is what one of the three came to.
type Phase struct {
	Seconds float64 `json:"seconds"` // of all files together
	Rate    float64 `json:"rate"`    // bytes a second; 0 for removing
	Files   float64 `json:"files"`   // files a second
	Delay   float64 `json:"delay"`   // the median time of one file, in seconds
	Slowest float64 `json:"slowest"` // the longest time of one file, in seconds
}

// Result is what a check came to.
type Result struct {
	Size   int64 `json:"size"`
	Number int   `json:"number"`
	Lanes  int   `json:"lanes"`
	Write  Phase `json:"write"`
	Read   Phase `json:"read"`
	Remove Phase `json:"remove"`
}

// Bounds of a check.
const (
	LargestSize = 1 << 30
	MostFiles   = 1000
	MostLanes   = 32
	MostBytes   = 4 << 30
)

// Check says what is wrong with options.
func (o Options) Check() error {
	switch {
	case o.Size < 0 || o.Size > LargestSize:
		return remedy.Errorf("a size of %d bytes is out of bounds; give up to 1 GiB", o.Size)
	case o.Number < 1 || o.Number > MostFiles:
		return remedy.Errorf("%d files are out of bounds; give 1 to %d", o.Number, MostFiles)
	case o.Lanes < 1 || o.Lanes > MostLanes:
		return remedy.Errorf("%d at once are out of bounds; give 1 to %d", o.Lanes, MostLanes)
	case o.Size*int64(o.Number) > MostBytes:
		return remedy.Errorf("%d files of %d bytes are more than 4 GiB; take fewer or smaller ones", o.Number, o.Size)
	}
	return nil
}

// Measure writes, reads and removes scratch files below the folder of ours at the
// account's start. Whatever happens, it removes them again; an error says what
// could not be measured. Contents are held to what was written.
func Measure(ctx context.Context, s store.Store, options Options) (Result, error) {
	if err := options.Check(); err != nil {
		return Result{}, err
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	m := &measure{store: s, options: options, result: Result{Size: options.Size, Number: options.Number, Lanes: options.Lanes}}
	if err := retry.Patiently(ctx, func() error { return store.Prepare(ctx, s) }); err != nil { // what is found out once is not counted
		return m.result, err
	}
	own := store.At(store.OwnFolder)
	folder := own.AsFolder().Ref("speed-" + options.Run)
	for _, place := range []store.Ref{own, folder} {
		err := retry.Patiently(ctx, func() error {
			_, err := s.MakeFolder(ctx, place)
			return err
		})
		if err != nil && s.Traits().Folders == store.FoldersReal {
			return m.result, err
		}
	}
	m.folder = folder.AsFolder()
	defer m.clear(context.WithoutCancel(ctx), folder)
	var err error
	if m.result.Write, err = m.phase(ctx, m.write); err != nil {
		return m.result, err
	}
	if m.result.Read, err = m.phase(ctx, m.read); err != nil {
		return m.result, err
	}
	m.result.Remove, err = m.phase(ctx, m.remove)
	m.result.Remove.Rate = 0
	return m.result, err
}

type measure struct {
	store   store.Store
	options Options
	folder  store.Folder
	result  Result

	mu        sync.Mutex
	done      int
	revisions map[int]string
}

func (m *measure) place(i int) store.Ref {
	return m.folder.Ref(fmt.Sprintf("scratch-%04d.bin", i))
}

// phase does one thing with all files, so many at once.
func (m *measure) phase(ctx context.Context, do func(ctx context.Context, i int) error) (Phase, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	times := make([]float64, m.options.Number)
	next := make(chan int)
	begun := m.options.Now()
	var group sync.WaitGroup
	for range min(m.options.Lanes, m.options.Number) {
		group.Go(func() {
			for i := range next {
				began := m.options.Now()
				if err := retry.Patiently(ctx, func() error { return do(ctx, i) }); err != nil {
					cancel(err)
					return
				}
				times[i] = m.options.Now().Sub(began).Seconds()
				m.progress()
			}
		})
	}
feed:
	for i := range m.options.Number {
		select {
		case next <- i:
		case <-ctx.Done():
			break feed
		}
	}
	close(next)
	group.Wait()
	if ctx.Err() != nil {
		return Phase{}, context.Cause(ctx)
	}
	return summary(m.options, m.options.Now().Sub(begun).Seconds(), times), nil
}

func (m *measure) progress() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done++
	if m.options.Progress != nil {
		m.options.Progress(m.done)
	}
}

func summary(options Options, seconds float64, times []float64) Phase {
	seconds = max(seconds, 1e-9)
	slices.Sort(times)
	return Phase{
		Seconds: seconds, Rate: float64(options.Size) * float64(options.Number) / seconds, Files: float64(options.Number) / seconds,
		Delay: times[len(times)/2], Slowest: times[len(times)-1],
	}
}

// content is bytes that do not shrink when they are compressed, the same each time.
type content struct {
	seed uint64
	size int64
}

// Open implements store.Content.
func (c content) Open(context.Context) (*store.Stream, error) {
	random := rand.NewChaCha8([32]byte{byte(c.seed), byte(c.seed >> 8)})
	return store.NewStream(io.NopCloser(io.LimitReader(random, c.size)), store.CRC64NVME, nil), nil
}

func (m *measure) write(ctx context.Context, i int) error {
	written, err := m.store.Write(ctx, store.Writing{
		Place: m.place(i), Size: m.options.Size, If: store.Absent, Run: m.options.Run, Content: content{uint64(i), m.options.Size},
	})
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.revisions == nil {
		m.revisions = map[int]string{}
	}
	m.revisions[i] = written.Revision
	return err
}

func (m *measure) read(ctx context.Context, i int) error {
	sum, size, err := store.ReadBack(ctx, m.store, m.place(i), "", store.CRC64NVME)
	if err != nil {
		return err
	}
	stream, _ := content{uint64(i), m.options.Size}.Open(ctx)
	if _, err := io.Copy(io.Discard, stream); err != nil {
		return err
	}
	if sum != stream.Sum() || size != m.options.Size {
		return store.Errorf(store.ErrTryAgain, "%s came back with other bytes than were written; check the network and the disks in between",
			m.place(i))
	}
	return nil
}

func (m *measure) remove(ctx context.Context, i int) error {
	m.mu.Lock()
	revision := m.revisions[i]
	m.mu.Unlock()
	_, err := m.store.Remove(ctx, m.place(i), revision)
	return err
}

// clear removes what is left, in whichever order it comes.
func (m *measure) clear(ctx context.Context, folder store.Ref) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	_, _ = store.Clean(ctx, m.store, store.Cleaning{Run: m.options.Run, Folder: m.folder})
	for i := range m.options.Number {
		_, known := m.revisions[i]
		if m.done < 3*m.options.Number && known {
			_, _ = m.store.Remove(ctx, m.place(i), "")
		}
	}
	_, _ = m.store.RemoveFolder(ctx, folder)
}
