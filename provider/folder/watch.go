package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

const (
	// rest is how long a file must stay unchanged before its change is reported, so that no
	// file is read while it is being written.
	rest = 800 * time.Millisecond
	// patience is after how long a change is reported although the file keeps changing,
	// like a log or a recording.
	patience = 10 * time.Second
	// keptEvents is how many changes are kept for those who ask later.
	keptEvents = 20_000
)

// watcher tells what changes in a folder on disk.
type watcher struct {
	root   string
	events *fsnotify.Watcher
	epoch  string // of its cursors
	ended  chan struct{}

	mu      sync.Mutex
	unquiet map[string]unquiet // by path
	told    []touched          // in the order in which they came to rest
	first   int64              // the number of the first of them
	more    chan struct{}      // closed when there are more
	broken  error
}

// unquiet is when a path was seen to change, first and last.
type unquiet struct{ first, last time.Time }

// touched is a path that has changed, and since when that is known.
type touched struct {
	path  string
	since time.Time
}

// watch begins to watch a folder and all that is in it.
func watch(root string) (*watcher, error) {
	events, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	w := &watcher{
		root: root, events: events, epoch: strconv.FormatInt(time.Now().UnixNano(), 36), ended: make(chan struct{}),
		unquiet: map[string]unquiet{}, more: make(chan struct{}),
	}
	if err := w.add(root, func(string, []byte) {}); err != nil {
		events.Close()
		return nil, err
	}
	go w.run()
	return w, nil
}

// add watches a folder, and those in it, and calls each with every name in them.
func (w *watcher) add(path string, each func(folder string, name []byte)) error {
	if filepath.Base(path) == store.OwnFolder && filepath.Dir(path) == w.root {
		return nil
	}
	inside, err := w.addOne(path, each)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP) {
		return nil // removed or replaced meanwhile
	}
	for _, name := range inside {
		if err == nil {
			err = w.add(filepath.Join(path, name), each)
		}
	}
	return err
}

// addOne watches a folder and returns the names of those in it. Names of files are not
// held: a folder may have a million.
func (w *watcher) addOne(path string, each func(folder string, name []byte)) (inside []string, err error) {
	dir, err := os.OpenFile(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	if err := w.events.Add(path); err != nil {
		return nil, err
	}
	err = readNames(dir, func(name []byte, folder bool) error {
		each(path, name)
		if folder {
			inside = append(inside, string(name))
		}
		return nil
	})
	return inside, err
}

// run takes events until the watcher is closed.
func (w *watcher) run() {
	defer close(w.ended)
	ticker := time.NewTicker(rest / 4)
	defer ticker.Stop()
	for {
		select {
		case event, open := <-w.events.Events:
			if !open {
				return
			}
			w.see(event)
		case err, open := <-w.events.Errors:
			if !open {
				return
			}
			w.fail(err)
		case now := <-ticker.C:
			w.settle(now)
		}
	}
}

func (w *watcher) see(event fsnotify.Event) {
	if event.Op == fsnotify.Chmod {
		return
	}
	path, below := strings.CutPrefix(event.Name, strings.TrimSuffix(w.root, "/")+"/") // both are clean
	if !below || path == "" {
		return
	}
	folder, name := filepath.Split(path)
	if store.Ours(store.Path(folder), name) || strings.HasPrefix(path, store.OwnFolder+"/") {
		return
	}
	if event.Op.Has(fsnotify.Create) {
		if info, err := os.Lstat(event.Name); err == nil && info.IsDir() {
			if err := w.add(event.Name, w.seeInside()); err != nil {
				w.fail(err)
			}
		}
	}
	w.seen(path)
}

func (w *watcher) seen(path string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	one, known := w.unquiet[path]
	if !known {
		one.first = now
	}
	one.last = now
	w.unquiet[path] = one
}

// mostInside is how many files of a new folder are reported one by one.
const mostInside = 1000

// seeInside returns a function that reports files in a new folder that were created before it
// was watched. If there are many, for example in a tree that was moved here, only the folder is
// reported.
func (w *watcher) seeInside() func(folder string, name []byte) {
	left := mostInside
	return func(folder string, name []byte) {
		if left--; left < 0 {
			return
		}
		relative, err := filepath.Rel(w.root, filepath.Join(folder, string(name)))
		if err == nil && !store.Ours(store.Path(filepath.Dir(relative)+"/"), string(name)) {
			w.seen(relative)
		}
	}
}

// settle reports the changes that have come to rest.
func (w *watcher) settle(now time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	some := false
	for path, one := range w.unquiet {
		if now.Sub(one.last) >= rest || now.Sub(one.first) >= patience {
			w.told, some = append(w.told, touched{path, one.first}), true
			delete(w.unquiet, path)
		}
	}
	if over := len(w.told) - keptEvents; over > 0 {
		w.told, w.first = w.told[over:], w.first+int64(over)
	}
	if some {
		close(w.more)
		w.more = make(chan struct{})
	}
}

// fail ends what can be told: some changes were not seen.
func (w *watcher) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.broken == nil {
		w.broken = err
		close(w.more)
		w.more = make(chan struct{})
	}
}

func (w *watcher) close() error {
	err := w.events.Close()
	<-w.ended
	return err
}

// since returns the changes since a cursor, and the next cursor; wait is closed when there
// are more.
func (w *watcher) since(cursor string) (changed []touched, next string, wait <-chan struct{}, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	end := w.first + int64(len(w.told))
	next = fmt.Sprint(w.epoch, "-", end)
	if cursor == "" {
		return nil, next, w.more, nil
	}
	number, ok := strings.CutPrefix(cursor, w.epoch+"-")
	from, wrong := strconv.ParseInt(number, 10, 64)
	if !ok || wrong != nil || from < w.first || from > end || w.broken != nil {
		return nil, "", nil, store.Errorf(store.ErrChanged, "the changes since then are not known any more")
	}
	return w.told[from-w.first:], next, w.more, nil
}

// watching returns the account's watcher, which the first who asks begins.
func (a *account) watching() (*watcher, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.watcher != nil && a.watcher.isBroken() {
		if err := a.watcher.close(); err != nil {
			return nil, err
		}
		a.watcher = nil
	}
	if a.watcher == nil {
		w, err := watch(a.real)
		if err != nil { // too many folders for the system, or a file system that tells nothing
			return nil, store.Errorf(store.ErrUnsupported, "the folder %s cannot be watched: %w", a.real, err)
		}
		a.watcher = w
	}
	return a.watcher, nil
}

func (w *watcher) isBroken() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.broken != nil
}

// Changes is store.Capabilities.Changes, by the system's own events.
func (a *account) Changes(ctx context.Context, folder store.Folder, cursor string) (store.ChangePage, error) {
	return a.AwaitChanges(ctx, folder, cursor, 0)
}

// AwaitChanges is store.Capabilities.AwaitChanges.
func (a *account) AwaitChanges(ctx context.Context, folder store.Folder, cursor string, wait time.Duration) (store.ChangePage, error) {
	w, err := a.watching()
	if err != nil {
		return store.ChangePage{}, err
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		paths, next, more, err := w.since(cursor)
		if err != nil || len(paths) > 0 || cursor == "" || wait <= 0 {
			return store.ChangePage{Changes: a.changesOf(ctx, folder, paths), Cursor: next}, err
		}
		select {
		case <-more:
		case <-timer.C:
			return store.ChangePage{Cursor: next}, nil
		case <-ctx.Done():
			return store.ChangePage{}, ctx.Err()
		}
	}
}

// changesOf are the changes at paths, of those below a folder.
func (a *account) changesOf(ctx context.Context, folder store.Folder, paths []touched) (changes []store.Change) {
	for _, one := range paths {
		place := store.At(strings.Split(one.path, string(filepath.Separator))...)
		if !strings.HasPrefix(string(place.Folder.Path), string(folder.Path)) {
			continue
		}
		change := store.Change{Place: place, Since: one.since}
		entry, err := a.Stat(ctx, place)
		if change.Gone = err != nil; err == nil {
			change.Entry = entry
		}
		changes = append(changes, change)
	}
	return changes
}

// Close ends the watching; the folder itself stays open to who still uses it.
func (a *account) Close() error {
	a.handles.dropAll()
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.watcher == nil {
		return nil
	}
	err := a.watcher.close()
	a.watcher = nil
	return err
}
