package runner

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"deftheron/core/job"
	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// arrivalSource is a source at which files or folders arrive.
type arrivalSource struct {
	db     *records.DB
	job    string // its id
	route  int
	side   transfer.Side
	filter plan.Filter
	kind   string // job.ArrivingFile or job.ArrivingFolder
}

func newArrivalSource(db *records.DB, id string, route int, side transfer.Side, filter plan.Filter, kind string) (*arrivalSource, error) {
	_, err := filter.Sieve(time.Now())
	return &arrivalSource{db: db, job: id, route: route, side: side, filter: filter, kind: kind}, err
}

// found is a file, or a folder with what is taken of it, as it is now.
type found struct {
	key      store.Key
	mark     string
	size     int64
	modified time.Time // of a folder, when the last of its files was changed
	files    int64
}

// markOf tells one state of a file from another. What was changed just before it was
// looked at is read later, when it has rested: its revision need not settle, and has to
// be the same once it has, or one state would arrive twice.
func markOf(entry store.Entry) string {
	return fmt.Sprintf("%s %d %d", store.SettledRevision(entry.Revision), entry.Size, entry.Modified.UnixNano())
}

// each calls do with each file that matches, or each folder of the source in which
// something does, in the order of keys. path is where to look, "" everywhere.
func (s *arrivalSource) each(ctx context.Context, path store.Path, do func(found) error) error {
	sieve, err := s.filter.Sieve(time.Now())
	if err != nil {
		return err
	}
	if s.kind == job.ArrivingFolder && path != "" { // all of the folder in the source
		path = path[:strings.IndexByte(string(path), '/')+1]
	}
	gathering := gathering{do: do}
	take := func(listed store.Listed) error {
		if listed.Kind != store.KindFile || sieve != nil && !sieve.Takes(listed) {
			return nil
		}
		if s.kind == job.ArrivingFolder {
			return gathering.add(listed)
		}
		return do(found{key: listed.Key(), mark: markOf(listed.Entry), size: max(0, listed.Size), modified: listed.Modified, files: 1})
	}
	root := s.side.Root.AsFolder()
	if path != "" {
		below, name := path.Split()
		place := store.Folder{Path: root.Path + below}.Ref(name)
		entry, err := s.side.Store.Stat(ctx, place)
		if store.KindOf(err) == store.ErrNotFound {
			return nil
		}
		if err != nil {
			return err
		}
		if entry.Kind != store.KindFolder {
			entry.Name = name
			return take(store.Listed{Below: below, Entry: entry})
		}
		root = entry.Folder(store.Folder{Path: place.Folder.Path})
	}
	leaves := s.filter.Leaves()
	leave := func(listed store.Listed) bool {
		listed.Below = path + listed.Below
		return leaves != nil && leaves(listed)
	}
	for listed, err := range listing.FlatWithout(ctx, s.side.Store, root, listing.Walk{Leave: leave}) {
		if err != nil {
			return err
		}
		listed.Below = path + listed.Below
		if err := take(listed); err != nil {
			return err
		}
	}
	return gathering.end()
}

// gathering puts the files of each folder of a source together.
type gathering struct {
	do   func(found) error
	one  found
	sum  []byte
	some bool
}

func (g *gathering) add(listed store.Listed) error {
	key := string(listed.Key())
	cut := strings.IndexByte(key, '/')
	if cut < 0 {
		return nil // a file in the source itself is not a folder that arrives
	}
	folder := store.Key(key[:cut+1])
	if g.some && g.one.key != folder {
		if err := g.end(); err != nil {
			return err
		}
	}
	g.some, g.one.key = true, folder
	g.one.files++
	g.one.size += max(0, listed.Size)
	if listed.Modified.After(g.one.modified) {
		g.one.modified = listed.Modified
	}
	sum := sha256.Sum256([]byte(string(g.sum) + "\n" + key + "\n" + markOf(listed.Entry)))
	g.sum = sum[:]
	return nil
}

func (g *gathering) end() error {
	if !g.some {
		return nil
	}
	one := g.one
	one.mark = hex.EncodeToString(g.sum)
	*g = gathering{do: g.do}
	return g.do(one)
}

// scan holds all of the source against what is known, in the order of keys. What is new
// gets the state; what is gone is forgotten. It returns how much was new or changed.
func (s *arrivalSource) scan(ctx context.Context, state string) (total int, err error) {
	const batch = 500
	var changed, gone []records.Incoming
	flush := func(least int) error {
		if len(changed) > least {
			if err := s.db.SaveIncoming(ctx, changed); err != nil {
				return err
			}
			total += len(changed)
			changed = changed[:0]
		}
		if len(gone) > least {
			if err := s.db.ForgetIncoming(ctx, gone); err != nil {
				return err
			}
			gone = gone[:0]
		}
		return nil
	}
	known := knownArrivals{source: s}
	err = s.each(ctx, "", func(one found) error {
		before, passed, err := known.at(ctx, one.key)
		if err != nil {
			return err
		}
		gone = append(gone, passed...)
		if after, ok := s.seen(before, one, state); ok {
			changed = append(changed, after)
		}
		return flush(batch)
	})
	if err != nil {
		return total, err // what was not listed is not gone
	}
	for {
		rest, err := known.rest(ctx, batch)
		if err != nil {
			return total, err
		}
		if gone = append(gone, rest...); len(rest) == 0 {
			err := flush(0)
			return total, err
		}
		if err := flush(batch); err != nil {
			return total, err
		}
	}
}

// seen is what is known of something now that it was seen as it is; ok false where
// nothing changes. state is that of what nothing was known of.
func (s *arrivalSource) seen(before *records.Incoming, one found, state string) (after records.Incoming, ok bool) {
	now := time.Now()
	if before == nil {
		return records.Incoming{Job: s.job, Route: s.route, Key: one.key, Mark: one.mark, Since: now, State: state, Size: one.size}, true
	}
	if before.Mark == one.mark {
		return *before, false
	}
	after = *before
	after.Mark, after.Since, after.State, after.Size = one.mark, now, records.IncomingResting, one.size
	return after, true
}

// lookAt holds what is at a path, and below it, against what is known.
func (s *arrivalSource) lookAt(ctx context.Context, path store.Path) error {
	var changed []records.Incoming
	err := s.each(ctx, path, func(one found) error {
		before, err := s.known(ctx, one.key)
		if err != nil {
			return err
		}
		if after, ok := s.seen(before, one, records.IncomingResting); ok {
			changed = append(changed, after)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.db.SaveIncoming(ctx, changed)
}

func (s *arrivalSource) known(ctx context.Context, key store.Key) (*records.Incoming, error) {
	one, err := s.db.Incoming(ctx, s.job, s.route, key)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	return &one, err
}

// ripen looks once more at what has rested: unchanged it is ready, gone it is
// forgotten, and else it rests again.
func (s *arrivalSource) ripen(ctx context.Context, one records.Incoming, rest time.Duration) error {
	seen := false
	err := s.each(ctx, pathOfKey(one.Key), func(now found) error {
		if now.key != one.Key {
			return nil // in file mode, a folder has its name now
		}
		seen = true
		known := job.Arrival{Mark: one.Mark, Since: one.Since}
		next, complete := known.See(now.mark, time.Now(), rest)
		one.Mark, one.Since, one.Size = next.Mark, next.Since, now.size
		if complete {
			one.State = records.IncomingReady
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case !seen:
		return s.db.ForgetIncoming(ctx, []records.Incoming{one})
	}
	return s.db.SaveIncoming(ctx, []records.Incoming{one})
}

// knownArrivals reads what is known of a source in the order of keys.
type knownArrivals struct {
	source *arrivalSource
	page   []records.Incoming
	after  *store.Key
	done   bool
}

func (k *knownArrivals) head(ctx context.Context) (*records.Incoming, error) {
	const page = 1000
	if len(k.page) == 0 && !k.done {
		var err error
		if k.page, err = k.source.db.IncomingAfter(ctx, k.source.job, k.source.route, k.after, page); err != nil {
			return nil, err
		}
		k.done = len(k.page) < page
	}
	if len(k.page) == 0 {
		return nil, nil
	}
	return &k.page[0], nil
}

func (k *knownArrivals) next() records.Incoming {
	one := k.page[0]
	k.page, k.after = k.page[1:], &one.Key
	return one
}

// at is what is known of a key, and of those before it that were not asked for.
func (k *knownArrivals) at(ctx context.Context, key store.Key) (known *records.Incoming, passed []records.Incoming, err error) {
	for {
		head, err := k.head(ctx)
		if err != nil || head == nil || head.Key > key {
			return nil, passed, err
		}
		one := k.next()
		if one.Key == key {
			return &one, passed, nil
		}
		passed = append(passed, one)
	}
}

// rest are the next of what was not asked for; none at the end.
func (k *knownArrivals) rest(ctx context.Context, most int) (rest []records.Incoming, err error) {
	for len(rest) < most {
		head, err := k.head(ctx)
		if err != nil || head == nil {
			return rest, err
		}
		rest = append(rest, k.next())
	}
	return rest, nil
}
