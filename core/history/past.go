package history

import (
	"context"
	"iter"
	"strings"
	"sync"
	"time"

	"deftheron/core/store"
)

// Records tell the changes of one account.
type Records interface {
	// First returns the first change of a path after a time; nil where there is none.
	First(ctx context.Context, path store.Key, after time.Time) (*Change, error)
	// FirstIn yields the first change after a time of each file in a folder, and for each
	// folder in it below which a file was overwritten, deleted or moved after that time one
	// change, of which the path alone counts. They come in the order of keys.
	FirstIn(ctx context.Context, folder store.Path, after time.Time) iter.Seq2[Change, error]
}

// Past is an account as it was at a time.
type Past struct {
	records Records
	at      time.Time

	mu   sync.Mutex
	made map[store.Path]time.Time
	// kept are the last contents that were told to go, and before those a generation earlier:
	// by then the records have them.
	kept, before map[store.Key]Change
}

// mostKept is how many changes one generation has: many more than wait to be recorded.
const mostKept = 20_000

// NewPast returns the account of some records as it was at a time.
func NewPast(records Records, at time.Time) *Past {
	return &Past{records: records, at: at, made: map[store.Path]time.Time{}}
}

// At returns the time.
func (p *Past) At() time.Time { return p.at }

// State is the state of a path at an earlier time.
type State struct {
	// Now is set if nothing has changed since: the account still holds it at Path.
	Now  bool
	Path store.Key
	// Change is the change that keeps the content; nil where Now is set, or where
	// nothing was there.
	Change *Change
	// Gone is set if an entry was there whose content is not kept any more.
	Gone bool
}

// Keep notes that the content of a path is about to move to the place of the change: from
// then on it is there, unless it is still at its path. The change is recorded later.
func (p *Past) Keep(change Change) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, known := p.told(change.Path); known {
		return
	}
	if p.kept == nil || len(p.kept) >= mostKept {
		p.kept, p.before = map[store.Key]Change{}, p.kept
	}
	p.kept[change.Path] = change
}

// told returns what Keep was told of a path. p.mu is held.
func (p *Past) told(path store.Key) (Change, bool) {
	if change, ok := p.kept[path]; ok {
		return change, true
	}
	change, ok := p.before[path]
	return change, ok
}

// first is the first change of a path, also one that the records do not have yet.
func (p *Past) first(ctx context.Context, path store.Key, after time.Time) (*Change, error) {
	change, err := p.records.First(ctx, path, after)
	if change != nil || err != nil {
		return change, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if kept, ok := p.told(path); ok && kept.At.After(after) {
		return &kept, nil
	}
	return nil, nil
}

// mostMoves bounds how often a content is followed from path to path.
const mostMoves = 1000

// Of returns the state of a path. The path of a folder ends with "/".
func (p *Past) Of(ctx context.Context, path store.Key) (State, error) {
	change, err := p.first(ctx, path, p.at)
	if err != nil {
		return State{}, err
	}
	return p.stateOf(ctx, path, change)
}

// stateOf is the state of a path whose first change is known.
func (p *Past) stateOf(ctx context.Context, path store.Key, change *Change) (State, error) {
	after := p.at
	for range mostMoves {
		made, err := p.folderMade(ctx, parentOf(path), after)
		if err != nil {
			return State{}, err
		}
		switch {
		case !made.IsZero() && (change == nil || !change.At.Before(made)), change != nil && change.How == Created:
			return State{Path: path}, nil
		case change == nil:
			return State{Now: true, Path: path}, nil
		case change.How == Thinned || !change.Since.IsZero() && change.Since.After(after) && change.How != Moved:
			return State{Path: path, Gone: true}, nil
		case change.How != Moved:
			return State{Path: path, Change: change}, nil
		}
		if path, after = change.To, change.At; path == "" {
			break
		}
		if change, err = p.first(ctx, path, after); err != nil {
			return State{}, err
		}
	}
	return State{Path: path, Gone: true}, nil
}

// folderMade returns when a folder, or the outermost of those that it is in, was first
// made after a time; zero where none was.
func (p *Past) folderMade(ctx context.Context, folder store.Path, after time.Time) (time.Time, error) {
	cached := after.Equal(p.at)
	if cached {
		p.mu.Lock()
		made, known := p.made[folder]
		p.mu.Unlock()
		if known {
			return made, nil
		}
	}
	var first time.Time
	for at := folder; at != ""; at, _ = at.Split() {
		change, err := p.records.First(ctx, store.Key(at), after)
		if err != nil {
			return first, err
		}
		if change != nil && change.How == Created && (first.IsZero() || change.At.Before(first)) {
			first = change.At
		}
	}
	if cached {
		p.mu.Lock()
		if len(p.made) > 1000 {
			clear(p.made)
		}
		p.made[folder] = first
		p.mu.Unlock()
	}
	return first, nil
}

// parentOf is the folder that a path is in.
func parentOf(path store.Key) store.Path {
	kind := store.KindFile
	if strings.HasSuffix(string(path), "/") {
		kind = store.KindFolder
	}
	parent, _ := path.Split(kind)
	return parent
}

// Entry is an earlier entry of a folder.
type Entry struct {
	Name   string
	Folder bool
	State  State // of a file
}

// In yields what has changed since in a folder: the state of each file that has, and the
// folders below which something has, in the order of keys.
func (p *Past) In(ctx context.Context, folder store.Path) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for change, err := range p.records.FirstIn(ctx, folder, p.at) {
			if err != nil {
				yield(Entry{}, err)
				return
			}
			kind := store.KindFile
			if strings.HasSuffix(string(change.Path), "/") {
				kind = store.KindFolder
			}
			_, name := change.Path.Split(kind)
			entry := Entry{Name: name, Folder: kind == store.KindFolder}
			if !entry.Folder {
				if entry.State, err = p.stateOf(ctx, change.Path, &change); err != nil {
					yield(Entry{}, err)
					return
				}
			}
			if !yield(entry, nil) {
				return
			}
		}
	}
}

// Made reports whether a folder was made after the time: nothing of what it holds now,
// and has not changed since, was there.
func (p *Past) Made(ctx context.Context, folder store.Path) (bool, error) {
	made, err := p.folderMade(ctx, folder, p.at)
	return !made.IsZero(), err
}
