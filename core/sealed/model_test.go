package sealed_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"iter"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/listing"
	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

var (
	modelSeed    = flag.Uint64("sealed-seed", 0, "the one seed to run the model with")
	modelLasting = flag.Duration("sealed-lasting", 3*time.Second, "how long the model runs")
)

// TestModel does random things to a sealed place and to a plain model of it, with processes
// that end at any request. Whatever was synced is there afterwards, whole, and what was
// not is there or not, but nothing else.
func TestModel(t *testing.T) {
	if *modelSeed != 0 {
		runModel(t, *modelSeed)
		return
	}
	begun := time.Now()
	for seed := uint64(1); time.Since(begun) < *modelLasting; seed++ {
		runModel(t, seed)
		if t.Failed() {
			t.Fatalf("run it again with -args -sealed-seed %d", seed)
		}
	}
}

// mortal is a store of which every request fails after some.
type mortal struct {
	store.Store
	left atomic.Int64
	lost bool // the last request is carried out, and its answer lost
}

var errDead = store.Errorf(store.ErrSuspended, "the process has ended")

func (m *mortal) live() error {
	if m.left.Add(-1) < 0 {
		return errDead
	}
	return nil
}

func (m *mortal) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if err := m.live(); err != nil {
		return store.Entry{}, err
	}
	return m.Store.Stat(ctx, ref)
}

func (m *mortal) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	if err := m.live(); err != nil {
		return func(yield func(store.Entry, error) bool) { yield(store.Entry{}, err) }
	}
	return m.Store.List(ctx, folder)
}

func (m *mortal) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	if err := m.live(); err != nil {
		return nil, err
	}
	return m.Store.Open(ctx, reading)
}

func (m *mortal) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := m.live(); err != nil {
		if m.lost && m.left.Load() == -1 {
			_, _ = m.Store.Write(ctx, writing)
		}
		return store.Written{}, err
	}
	return m.Store.Write(ctx, writing)
}

func (m *mortal) MakeFolder(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if err := m.live(); err != nil {
		return store.Entry{}, err
	}
	return m.Store.MakeFolder(ctx, ref)
}

func (m *mortal) Remove(ctx context.Context, ref store.Ref, revision string) (store.Removal, error) {
	if err := m.live(); err != nil {
		return "", err
	}
	return m.Store.Remove(ctx, ref, revision)
}

func (m *mortal) RemoveFolder(ctx context.Context, ref store.Ref) (store.Removal, error) {
	if err := m.live(); err != nil {
		return "", err
	}
	return m.Store.RemoveFolder(ctx, ref)
}

func (m *mortal) Capabilities() store.Capabilities {
	c := m.Store.Capabilities()
	copyWithin := c.Copy
	c.Copy = func(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
		if err := m.live(); err != nil {
			return store.Entry{}, err
		}
		return copyWithin(ctx, from, revision, to, run)
	}
	return c
}

// model is a sealed place and what is expected of it.
type model struct {
	t      *testing.T
	random *rand.Rand
	base   *storetest.Account
	mortal *mortal
	keys   sealed.Keys
	heads  *heads
	place  *sealed.Place
	files  map[string]string // contents by path; folders end in a slash
	synced map[string]string
	// since are the contents that came or went at a path after the last sync.
	since map[string]bool
	count int
	trail []string
}

func runModel(t *testing.T, seed uint64) {
	m := &model{
		t: t, random: rand.New(rand.NewPCG(seed, 1)), heads: &heads{}, files: map[string]string{}, synced: map[string]string{},
		since: map[string]bool{},
	}
	m.base = &storetest.Account{Memory: storetest.NewMemory(), Copies: true}
	m.keys, _ = newKeys(t)
	if err := sealed.Create(t.Context(), m.base, vault, m.keys, nil); err != nil {
		t.Fatal(err)
	}
	m.start()
	for range 60 {
		m.step()
		if t.Failed() {
			m.tell()
			return
		}
	}
	if err := m.sync(); err != nil {
		t.Errorf("syncing at the end: %v", err)
	}
	m.check("at the end", m.files, nil)
	m.cleanUp()
	m.tell()
}

// tell says what was done, where something was found.
func (m *model) tell() {
	for _, did := range m.trail {
		if m.t.Failed() {
			m.t.Log(did)
		}
	}
}

// start begins a process.
func (m *model) start() {
	m.mortal = &mortal{Store: m.base, lost: m.random.IntN(2) == 0}
	m.mortal.left.Store(1 << 40)
	place, err := sealed.Open(m.t.Context(), sealed.Options{Base: m.mortal, Folder: vault, Keys: m.keys, Heads: m.heads})
	if err != nil {
		m.t.Fatal(err)
	}
	m.place = place
}

func (m *model) did(format string, args ...any) {
	m.trail = append(m.trail, fmt.Sprintf(format, args...))
}

// some returns one of the paths of files, or of folders.
func (m *model) some(folders bool) (string, bool) {
	var paths []string
	for _, path := range slices.Sorted(maps.Keys(m.files)) {
		if strings.HasSuffix(path, "/") == folders {
			paths = append(paths, path)
		}
	}
	if len(paths) == 0 {
		return "", false
	}
	return paths[m.random.IntN(len(paths))], true
}

// new returns a path in some folder, which may be taken.
func (m *model) new() string {
	folder := ""
	if m.random.IntN(3) > 0 {
		folder, _ = m.some(true)
	}
	return folder + string(rune('a'+m.random.IntN(5)))
}

func refOf(path string) store.Ref {
	names := strings.Split(strings.TrimSuffix(path, "/"), "/")
	if strings.HasSuffix(path, "/") {
		return store.At(names...).As(store.KindFolder)
	}
	return store.At(names...).As(store.KindFile)
}

func (m *model) content() string {
	m.count++
	sizes := []int{0, 1, 20, 65535, 65536, 65537, 131072, 200000}
	text := fmt.Sprintf("%d ", m.count)
	return text + strings.Repeat("x", sizes[m.random.IntN(len(sizes))])
}

// step does one thing. Where the process ends in it, another one begins.
func (m *model) step() {
	dies := m.random.IntN(12) == 0
	if dies {
		m.mortal.left.Store(m.random.Int64N(12))
	}
	before := maps.Clone(m.files)
	err := m.act()
	if dies {
		m.die(before)
		return
	}
	if err != nil {
		m.t.Errorf("%v", err)
	}
	m.check("after "+m.trail[len(m.trail)-1], m.files, nil)
}

// expect compares an error with whether there is to be one of a kind.
func expect(err error, kind error) (bool, error) {
	switch {
	case kind == nil:
		return err == nil, err
	case errors.Is(err, kind):
		return false, nil
	}
	return false, fmt.Errorf("got %w, want %w", err, kind)
}

func (m *model) act() error {
	switch m.random.IntN(10) {
	case 0, 1, 2:
		return m.write()
	case 3:
		return m.makeFolder()
	case 4:
		return m.remove()
	case 5, 6:
		return m.move()
	case 7:
		return m.copy()
	}
	return m.sync()
}

func (m *model) touch(path string) { m.since[path] = true }

func (m *model) write() error {
	path, data := m.new(), m.content()
	old, exists := m.files[path]
	writing := store.Writing{Place: refOf(path), Size: int64(len(data)), Run: "run", Content: storetest.Text(data), If: store.Any}
	var want error
	keep := ""
	switch m.random.IntN(3) {
	case 0:
		if writing.If = store.Absent; exists {
			want = store.ErrExists
		}
	case 1:
		if keep = m.new(); keep != path && exists {
			writing.Keep = refOf(keep)
			if _, taken := m.files[keep]; taken {
				want = store.ErrExists
			}
		} else {
			keep = ""
		}
	}
	m.did("write %s (%d bytes), keeping at %q", path, len(data), keep)
	_, err := m.place.Write(m.t.Context(), writing)
	ok, err := expect(err, want)
	if ok {
		m.files[path] = data
		m.touch(path)
		if keep != "" {
			m.files[keep] = old
			m.touch(keep)
		}
	}
	return err
}

func (m *model) makeFolder() error {
	path := m.new() + "/"
	m.did("make %s", path)
	_, err := m.place.MakeFolder(m.t.Context(), refOf(path))
	if err == nil {
		m.files[path] = ""
		m.touch(path)
	}
	return err
}

func (m *model) remove() error {
	folder := m.random.IntN(2) == 0
	path, ok := m.some(folder)
	if !ok {
		m.did("remove nothing")
		return nil
	}
	m.did("remove %s", path)
	var err, want error
	if folder {
		_, err = m.place.RemoveFolder(m.t.Context(), refOf(path))
		for other := range m.files {
			if other != path && strings.HasPrefix(other, path) {
				want = store.ErrRefused
			}
		}
	} else {
		_, err = m.place.Remove(m.t.Context(), refOf(path), "")
	}
	ok, err = expect(err, want)
	if ok {
		delete(m.files, path)
		m.touch(path)
	}
	return err
}

func (m *model) move() error {
	folder := m.random.IntN(3) == 0
	from, ok := m.some(folder)
	to := m.new()
	if folder {
		to += "/"
	}
	if !ok {
		m.did("move nothing")
		return nil
	}
	m.did("move %s to %s", from, to)
	var want error
	if _, taken := m.files[to]; taken {
		want = store.ErrExists
	}
	if folder && strings.HasPrefix(to, from) {
		want = store.ErrRefused
	}
	_, err := m.place.Capabilities().Move(m.t.Context(), refOf(from), "", refOf(to))
	if folder && to == from {
		return nil // refused in one way or another
	}
	ok, err = expect(err, want)
	if !ok {
		return err
	}
	for path, data := range maps.Clone(m.files) {
		if path == from || folder && strings.HasPrefix(path, from) {
			delete(m.files, path)
			m.files[to+path[len(from):]] = data
			m.touch(path)
			m.touch(to + path[len(from):])
		}
	}
	return err
}

func (m *model) copy() error {
	from, ok := m.some(false)
	to := m.new()
	if !ok {
		m.did("copy nothing")
		return nil
	}
	m.did("copy %s to %s", from, to)
	var want error
	if _, taken := m.files[to]; taken {
		want = store.ErrExists
	}
	_, err := store.Copy(m.t.Context(), m.place, refOf(from), "", refOf(to), "run")
	ok, err = expect(err, want)
	if ok {
		m.files[to] = m.files[from]
		m.touch(to)
	}
	return err
}

func (m *model) sync() error {
	m.did("sync")
	if err := store.Sync(m.t.Context(), m.place); err != nil {
		return err
	}
	m.synced = maps.Clone(m.files)
	clear(m.since)
	return nil
}

// state reads everything that is there.
func (m *model) state(when string) map[string]string {
	m.t.Helper()
	there := map[string]string{}
	for one, err := range listing.Flat(m.t.Context(), m.place, store.Folder{}) {
		if err != nil {
			m.t.Errorf("%s: listing: %v", when, err)
			return there
		}
		key := string(one.Key())
		there[key] = ""
		if one.Kind == store.KindFolder {
			continue
		}
		body, err := m.place.Open(m.t.Context(), store.Reading{Place: one.Key().Ref("", store.KindFile), Revision: one.Revision})
		if err != nil {
			m.t.Errorf("%s: %s: %v", when, key, err)
			continue
		}
		data, err := io.ReadAll(body)
		if err = errors.Join(err, body.Close()); err != nil || int64(len(data)) != one.Size {
			m.t.Errorf("%s: %s has %d bytes of %d: %v", when, key, len(data), one.Size, err)
		}
		there[key] = string(data)
	}
	return there
}

func short(data string) string {
	if len(data) > 8 {
		return data[:8] + "…"
	}
	return data
}

// check compares all that is there with what is expected, but for some paths.
func (m *model) check(when string, want map[string]string, except map[string]bool) {
	m.t.Helper()
	there := m.state(when)
	for path, data := range want {
		if got, ok := there[path]; !except[path] && (!ok || got != data) {
			m.t.Errorf("%s: %s holds %q (there: %v), want %q", when, path, short(got), ok, short(data))
		}
	}
	for path := range there {
		if _, ok := want[path]; !ok && !except[path] {
			m.t.Errorf("%s: %s is there and is not to be", when, path)
		}
	}
}

// die has another process go on. What was synced and not touched since is as it was, and
// no content of then is lost that was not overwritten or removed.
func (m *model) die(before map[string]string) {
	m.did("the process ends")
	m.mortal.left.Store(-100)
	m.start()
	for path := range m.files {
		if _, ok := before[path]; !ok {
			m.touch(path)
		}
	}
	m.check("after a kill", m.synced, m.since)
	if _, err := store.Clean(m.t.Context(), m.place, store.Cleaning{Run: "run"}); err != nil {
		m.t.Errorf("cleaning: %v", err)
	}
	there := m.state("after a kill and cleaning")
	kept := map[string]int{}
	for _, data := range there {
		kept[data]++
	}
	for path, data := range m.synced {
		now, stays := m.files[path]
		if data == "" || kept[data] > 0 || stays && now != data {
			continue
		}
		if !slices.Contains(slices.Collect(maps.Values(m.files)), data) {
			continue // it was removed, or overwritten, since
		}
		m.t.Errorf("after a kill: the content %q of %s is lost", short(data), path)
	}
	m.files = there
	if err := m.sync(); err != nil {
		m.t.Errorf("syncing after a kill: %v", err)
	}
	m.check("after a kill and a sync", m.files, nil)
}

// cleanUp looks whether anything is left at the provider that nothing refers to.
func (m *model) cleanUp() {
	if err := store.Close(m.place); err != nil {
		m.t.Error(err)
	}
	var contents []string
	files := 0
	for path, data := range m.files {
		if !strings.HasSuffix(path, "/") || data != "" {
			files++
		}
	}
	for path := range m.base.Files() {
		if strings.Contains(path, "/contents/") && strings.HasSuffix(path, ".age") {
			contents = append(contents, path)
		}
		if strings.Contains(path, "/removals/") || strings.HasSuffix(path, ".kept") {
			m.t.Errorf("%s is left over", path)
		}
	}
	if len(contents) != files {
		m.t.Errorf("%d contents are at the provider, of %d files: %q", len(contents), files, contents)
	}
}
