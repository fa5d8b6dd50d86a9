// Package storetest holds what tests of stores and of the engine share: the
// conformance suite that every provider passes ([Run]), a store in memory
// ([Memory]), and one that fails on demand ([Faulty]).
package storetest

import (
	"bytes"
	"context"
	"io"
	"iter"
	"sort"
	"sync"
	"time"

	"deftheron/core/store"
)

// Memory is a store that keeps everything in memory. Its zero value is not
// usable; see NewMemory. The fields may be set before its first use.
type Memory struct {
	// Limits on what is held, to be met by tests.
	MaxBytes int64 // 0 is unlimited
	// PartsAbove, where not 0, makes files above that size go in parts of
	// PartSize bytes.
	PartsAbove, PartSize int64
	// Unsorted makes List yield in an order that cannot be relied on.
	Unsorted bool
	// Keeping has what is replaced kept where a write says.
	Keeping bool
	// Versioned has the account keep what is replaced or removed by itself, as a version.
	Versioned bool
	// NoHashes makes the store keep none.
	NoHashes bool
	// Vague makes revisions of sizes and whole seconds, as a file server's are.
	Vague bool
	// Inodes gives each file an identity, which the next file gets once it is gone.
	Inodes bool

	mu       sync.Mutex
	traits   store.Traits
	replaced error
	folders  map[store.Path]bool
	files    map[store.Path]map[string]*memoryFile
	uploads  map[string]*memoryUpload
	changes  int
	now      time.Time
	inodes   int
	free     []string // identities of files that are gone
	past     map[string]*memoryFile
}

type memoryFile struct {
	data     []byte
	modified time.Time
	revision string
	identity string
	link     bool
	version  string
}

// NewMemory returns an empty account with real folders, kept times, conditional
// writes and CRC64NVME as its verification.
func NewMemory() *Memory {
	m := &Memory{
		folders: map[store.Path]bool{"": true},
		files:   map[store.Path]map[string]*memoryFile{},
		uploads: map[string]*memoryUpload{},
		now:     time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC),
	}
	m.traits = store.Traits{
		Order: store.OrderByKey, Folders: store.FoldersReal, KeepsTimes: true,
		TimePrecision: time.Nanosecond, VerificationKind: store.CRC64NVME, Conditional: true, Streams: 8, Revisions: store.RevisionsOfContent,
	}
	return m
}

func (m *Memory) entry(name string, file *memoryFile) store.Entry {
	if file.link {
		return store.Entry{Name: name, Kind: store.KindOther, Modified: file.modified, Revision: file.revision}
	}
	entry := store.Entry{
		Name: name, Kind: store.KindFile, Size: int64(len(file.data)),
		Modified: file.modified, Revision: file.revision, Identity: file.identity,
	}
	if !m.NoHashes {
		sum := store.CRC64NVME.New()
		sum.Write(file.data)
		entry.Hashes = store.Hashes{store.HashOf(store.CRC64NVME, sum.Sum(nil))}
	}
	return entry
}

// Traits implements store.Store.
func (m *Memory) Traits() store.Traits {
	traits := m.traits
	if m.Unsorted {
		traits.Order = store.OrderNone
	}
	if m.NoHashes {
		traits.VerificationKind = ""
	}
	return traits
}

// SetClock sets the account's own clock, which goes on a second with each write.
func (m *Memory) SetClock(now time.Time) { m.now = now }

// SetTraits changes what the account says of itself.
func (m *Memory) SetTraits(change func(*store.Traits)) { change(&m.traits) }

// Stat implements store.Store.
func (m *Memory) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if place.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	if file := m.files[place.Folder.Path][place.Name]; file != nil && place.Means(store.KindFile) {
		return m.entry(place.Name, file), nil
	}
	if m.folders[place.AsFolder().Path] && place.Means(store.KindFolder) {
		return store.Entry{Name: place.Name, Kind: store.KindFolder}, nil
	}
	return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is not there", place)
}

// List implements store.Store.
func (m *Memory) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		entries, err := m.children(folder.Path)
		if err != nil {
			yield(store.Entry{}, err)
			return
		}
		for _, entry := range entries {
			if err := ctx.Err(); err != nil {
				yield(store.Entry{}, err)
				return
			}
			if !yield(entry, nil) {
				return
			}
		}
	}
}

func (m *Memory) children(folder store.Path) ([]store.Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.folders[folder] {
		return nil, store.Errorf(store.ErrNotFound, "the folder /%s is not there", folder)
	}
	var entries []store.Entry
	for name, file := range m.files[folder] {
		entries = append(entries, m.entry(name, file))
	}
	for path := range m.folders {
		if parent, name := path.Split(); parent == folder && path != "" {
			entries = append(entries, store.Entry{Name: name, Kind: store.KindFolder})
		}
	}
	if m.Unsorted {
		sort.Slice(entries, func(i, j int) bool { return entries[i].Name > entries[j].Name })
	} else {
		store.SortByKey(entries)
	}
	return entries, nil
}

// Open implements store.Store.
func (m *Memory) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	file := m.files[reading.Place.Folder.Path][reading.Place.Name]
	if file == nil {
		return nil, store.Errorf(store.ErrNotFound, "%s is not there", reading.Place)
	}
	if file.link {
		return nil, store.Errorf(store.ErrRefused, "%s is a link", reading.Place)
	}
	if reading.Revision != "" && reading.Revision != file.revision {
		return nil, store.Errorf(store.ErrChanged, "%s changed", reading.Place)
	}
	return io.NopCloser(bytes.NewReader(part(file.data, reading))), nil
}

// Write implements store.Store.
func (m *Memory) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := m.Traits().NameError(writing.Place.Folder.Path, writing.Place.Name); err != nil {
		return store.Written{}, err
	}
	stream, err := writing.Content.Open(ctx)
	if err != nil {
		return store.Written{}, err
	}
	defer stream.Close()
	data, err := io.ReadAll(stream)
	if err != nil {
		return store.Written{}, err
	}
	if writing.Size >= 0 && int64(len(data)) != writing.Size {
		return store.Written{}, store.ShortBody(int64(len(data)), writing.Size)
	}
	return m.commit(ctx, writing, data)
}

func (m *Memory) commit(ctx context.Context, writing store.Writing, data []byte) (store.Written, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return store.Written{}, err
	}
	if err := m.check(writing); err != nil {
		return store.Written{}, err
	}
	if m.MaxBytes > 0 && m.held()+int64(len(data)) > m.MaxBytes {
		return store.Written{}, store.Errorf(store.ErrNoSpace, "no space left for %s", writing.Place)
	}
	if old := m.files[writing.Place.Folder.Path][writing.Place.Name]; old != nil && !writing.Keep.IsStart() {
		if !m.folders[writing.Keep.Folder.Path] {
			return store.Written{}, store.Errorf(store.ErrNotFound, "the folder of %s is not there", writing.Keep)
		}
		if m.files[writing.Keep.Folder.Path][writing.Keep.Name] != nil {
			return store.Written{}, store.Errorf(store.ErrExists, "%s already exists", writing.Keep)
		}
		m.put(writing.Keep, old.data, old.modified)
	}
	entry := m.put(writing.Place, data, writing.Modified)
	return store.Written{Entry: entry, Verification: entry.Hashes.Get(store.CRC64NVME)}, nil
}

func (m *Memory) check(writing store.Writing) error {
	place := writing.Place
	if !m.folders[place.Folder.Path] {
		return store.Errorf(store.ErrNotFound, "the folder of %s is not there", place)
	}
	if m.folders[place.AsFolder().Path] && !m.traits.FileBesideFolder {
		return store.Errorf(store.ErrExists, "a folder is at %s", place)
	}
	file := m.files[place.Folder.Path][place.Name]
	if writing.If.IsAbsent() && file != nil {
		return store.Errorf(store.ErrExists, "%s already exists", place)
	}
	if revision, ok := writing.If.Expect(); ok && (file == nil || file.revision != revision) {
		return store.Errorf(store.ErrChanged, "%s changed", place)
	}
	return nil
}

func (m *Memory) held() (bytes int64) {
	for _, files := range m.files {
		for _, file := range files {
			bytes += int64(len(file.data))
		}
	}
	return bytes
}

// MakeFolder implements store.Store.
func (m *Memory) MakeFolder(ctx context.Context, place store.Ref) (store.Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.folders[place.Folder.Path] {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "the folder of %s is not there", place)
	}
	if m.files[place.Folder.Path][place.Name] != nil && !m.traits.FileBesideFolder {
		return store.Entry{}, store.Errorf(store.ErrExists, "a file is at %s", place)
	}
	m.folders[place.AsFolder().Path] = true
	return store.Entry{Name: place.Name, Kind: store.KindFolder}, nil
}

// Remove implements store.Store.
func (m *Memory) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	file := m.files[place.Folder.Path][place.Name]
	if file == nil {
		return "", store.Errorf(store.ErrNotFound, "%s is not there", place)
	}
	if revision != "" && file.revision != revision {
		return "", store.Errorf(store.ErrChanged, "%s changed", place)
	}
	if file.identity != "" {
		m.free = append(m.free, file.identity)
	}
	m.keepVersion(place, file)
	delete(m.files[place.Folder.Path], place.Name)
	return store.RemovedFinally, nil
}

// RemoveFolder implements store.Store.
func (m *Memory) RemoveFolder(ctx context.Context, place store.Ref) (store.Removal, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	path := place.AsFolder().Path
	if !m.folders[path] || path == "" {
		return "", store.Errorf(store.ErrNotFound, "the folder %s is not there", place)
	}
	if len(m.files[path]) > 0 {
		return "", store.Errorf(store.ErrRefused, "the folder %s is not empty", place)
	}
	for other := range m.folders {
		if parent, _ := other.Split(); parent == path && other != "" {
			return "", store.Errorf(store.ErrRefused, "the folder %s is not empty", place)
		}
	}
	delete(m.folders, path)
	return store.RemovedFinally, nil
}

// Capabilities implements store.Store.
func (m *Memory) Capabilities() store.Capabilities {
	c := store.Capabilities{Clean: m.Clean, Check: func(context.Context) error { return m.replaced }}
	if m.PartsAbove > 0 {
		c.Parts = m
	}
	if m.Keeping {
		c.Keeps = func(store.Writing) bool { return true }
	}
	if m.Versioned {
		c.Versions = memoryVersions{m}
	}
	return c
}

// Replace has Check say from now on that another folder is at the account's start.
func (m *Memory) Replace() { m.replaced = store.Errorf(store.ErrReplaced, "another folder is there") }
