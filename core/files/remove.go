// Package files has the operations that a person does by hand on the files of an
// account: [Survey] counts the entries below a place, [Remove] removes them, [Put]
// writes content from outside, and [Compare] compares two places. Package transfer has
// the operations that take long and must survive a restart.
package files

import (
	"context"
	"errors"
	"sync"

	"golang.org/x/sync/errgroup"

	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// Count is how much is at a place, itself included.
type Count struct {
	Files   int64 `json:"files"`
	Folders int64 `json:"folders"`
	Others  int64 `json:"others"` // links, sockets, devices
	Bytes   int64 `json:"bytes"`
}

// Add adds another count.
func (c *Count) Add(other Count) {
	c.Files += other.Files
	c.Folders += other.Folders
	c.Others += other.Others
	c.Bytes += other.Bytes
}

func (c *Count) entry(entry store.Entry) {
	switch entry.Kind {
	case store.KindFolder:
		c.Folders++
	case store.KindOther:
		c.Others++
	default:
		c.Files++
		c.Bytes += max(0, entry.Size)
	}
}

// Survey counts the entries at a place and below it. An error means that the count
// is incomplete.
func Survey(ctx context.Context, s store.Store, place store.Ref) (count Count, err error) {
	entry, err := s.Stat(ctx, place)
	if err != nil {
		return count, err
	}
	count.entry(entry)
	if entry.Kind != store.KindFolder {
		return count, nil
	}
	for listed, err := range listing.Flat(ctx, s, place.AsFolder()) {
		if err != nil {
			return count, err
		}
		if listed.Name == store.OwnFolder && listed.Kind == store.KindFolder {
			return count, store.Errorf(store.ErrRefused, "%s holds the history of an account that begins there, and cannot be deleted; "+
				"delete what is beside it", store.Folder{Path: place.AsFolder().Path + listed.Below}.Ref(listed.Name))
		}
		count.entry(listed.Entry)
	}
	return count, nil
}

// Failure is one entry that could not be removed.
type Failure struct {
	Place store.Ref
	Cause plan.Cause
	Err   error
}

// Removed is the result of a removal.
type Removed struct {
	Count
	// Trash is how much of it can be restored from the provider's trash.
	Trash int64
	// Failures are the first hundred entries that are still there; Kept is
	// how many there are, folders that hold one of them not counted.
	Failures []Failure
	Kept     int64
}

const mostFailures = 100

// ErrMore is the error if a place holds more than the number of entries agreed to.
var ErrMore = errors.New("there is more than was agreed to be removed")

// Remove removes the entries at a place and below it: each file at its listed
// revision, each folder when it is empty. It reports what cannot be removed and
// continues with the rest. It stops with ErrMore as soon as it finds more than agreed,
// which is the number that Survey counted and a person confirmed; the result then
// holds what was removed before.
func Remove(ctx context.Context, s store.Store, place store.Ref, agreed Count) (Removed, error) {
	if place.IsStart() {
		return Removed{}, store.Errorf(store.ErrRefused,
			"this is the start of an account, which cannot be removed; name what is in it, or unlink the account")
	}
	entry, err := s.Stat(ctx, place)
	if err != nil {
		return Removed{}, err
	}
	r := &remover{store: s, agreed: agreed}
	err = r.remove(ctx, place.As(entry.Kind), entry)
	return r.removed, err
}

type remover struct {
	store   store.Store
	agreed  Count
	mu      sync.Mutex
	met     Count
	removed Removed
}

// atOnce is how many files of a folder are removed at once.
const atOnce = 8

func (r *remover) remove(ctx context.Context, place store.Ref, entry store.Entry) error {
	if err := r.meet(entry); err != nil {
		return err
	}
	if entry.Kind == store.KindFolder {
		if err := r.empty(ctx, place.AsFolder()); err != nil {
			return err
		}
	}
	var removal store.Removal
	var err error
	if entry.Kind == store.KindFolder {
		removal, err = r.store.RemoveFolder(ctx, place)
	} else {
		removal, err = r.store.Remove(ctx, place, entry.Revision)
	}
	return r.note(ctx, place, entry, removal, err)
}

// empty removes the content of a folder: first its files, several in parallel, then its
// folders.
func (r *remover) empty(ctx context.Context, folder store.Folder) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	var folders []store.Entry
	for entry, err := range r.store.List(ctx, folder) {
		if err != nil {
			if store.KindOf(err) == store.ErrNotFound {
				break // an implied folder goes with its last file
			}
			return errors.Join(err, group.Wait())
		}
		if store.Ours(folder.Path, entry.Name) {
			continue
		}
		if entry.Kind == store.KindFolder {
			folders = append(folders, entry)
			continue
		}
		group.Go(func() error { return r.remove(ctx, entry.Ref(folder), entry) })
	}
	for _, entry := range folders {
		if err := r.remove(ctx, entry.Ref(folder), entry); err != nil {
			return errors.Join(err, group.Wait())
		}
	}
	return group.Wait()
}

// meet counts an entry before anything is done to it.
func (r *remover) meet(entry store.Entry) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.met.entry(entry)
	if r.met.Files > r.agreed.Files || r.met.Others > r.agreed.Others || r.met.Folders > r.agreed.Folders || r.met.Bytes > r.agreed.Bytes {
		return ErrMore
	}
	return nil
}

func (r *remover) note(ctx context.Context, place store.Ref, entry store.Entry, removal store.Removal, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	switch kind := store.KindOf(err); {
	case err == nil || kind == store.ErrNotFound: // gone, by us or by somebody else
		r.removed.Count.entry(entry)
		if removal == store.RemovedToTrash {
			r.removed.Trash++
		}
	case store.WaitsForPerson(err):
		return err
	case entry.Kind == store.KindFolder && kind == store.ErrRefused && r.removed.Kept > 0:
		// It holds what could not be removed.
	default:
		r.removed.Kept++
		if len(r.removed.Failures) < mostFailures {
			r.removed.Failures = append(r.removed.Failures, Failure{place, plan.CauseOf(err), err})
		}
	}
	return nil
}
