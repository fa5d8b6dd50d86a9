package arrival

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"deftheron/core/job"
	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// Source is a place at which files or folders arrive.
type Source struct {
	Job    string // the id of the job
	Route  int
	Store  store.Store
	Root   store.Folder
	Filter plan.Filter
	Kind   string // job.ArrivingFile or job.ArrivingFolder
}

// Found is a file that matches, or a folder with the files in it that match, as it is now.
type Found struct {
	Key      store.Key
	Size     int64     // in bytes
	Modified time.Time // of a folder, the latest of its files
	mark     string
}

// markOf tells one content of a file from another. A file that was written a moment ago gets
// its settled revision: else it would arrive a second time once the clock has moved on.
func markOf(entry store.Entry) string {
	return fmt.Sprintf("%s %d %d", store.SettledRevision(entry.Revision), entry.Size, entry.Modified.UnixNano())
}

// PathOf returns the path of a key.
func PathOf(key store.Key) store.Path {
	if strings.HasSuffix(string(key), "/") {
		return store.Path(key)
	}
	return store.Path(key + "/")
}

// Each calls do with every file that matches, or every folder of the source that holds one,
// in the order of keys. path, below the source, limits the look; "" is the whole source.
func (s Source) Each(ctx context.Context, path store.Path, do func(Found) error) error {
	sieve, err := s.Filter.Sieve(time.Now())
	if err != nil {
		return err
	}
	if s.Kind == job.ArrivingFolder && path != "" { // the whole of the folder in the source
		path = path[:strings.IndexByte(string(path), '/')+1]
	}
	folders := gathering{do: do}
	take := func(listed store.Listed) error {
		if listed.Kind != store.KindFile || sieve != nil && !sieve.Takes(listed) {
			return nil
		}
		if s.Kind == job.ArrivingFolder {
			return folders.add(listed)
		}
		return do(Found{Key: listed.Key(), mark: markOf(listed.Entry), Size: max(0, listed.Size), Modified: listed.Modified})
	}
	root := s.Root
	if path != "" {
		below, name := path.Split()
		place := store.Folder{Path: root.Path + below}.Ref(name)
		entry, err := s.Store.Stat(ctx, place)
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
	leaves := s.Filter.Leaves()
	leave := func(listed store.Listed) bool {
		listed.Below = path + listed.Below
		return leaves != nil && leaves(listed)
	}
	for listed, err := range listing.FlatWithout(ctx, s.Store, root, listing.Walk{Leave: leave}) {
		if err != nil {
			return err
		}
		listed.Below = path + listed.Below
		if err := take(listed); err != nil {
			return err
		}
	}
	return folders.end()
}

// At returns the entry at a path below the source, and false if it does not match.
func (s Source) At(ctx context.Context, path store.Path) (one Found, ok bool, err error) {
	err = s.Each(ctx, path, func(now Found) error {
		if PathOf(now.Key) == path || s.Kind == job.ArrivingFolder {
			one, ok = now, true
		}
		return nil
	})
	return one, ok, err
}

// Latest returns the entry that was changed last at any of the sources, and the index of its
// source; the index is negative if no entry matches.
func Latest(ctx context.Context, sources []Source) (latest Found, source int, err error) {
	source = -1
	for i, one := range sources {
		err := one.Each(ctx, "", func(now Found) error {
			if source < 0 || !now.Modified.Before(latest.Modified) {
				latest, source = now, i
			}
			return nil
		})
		if err != nil {
			return latest, -1, err
		}
	}
	return latest, source, nil
}

// gathering puts the files of each folder of a source together.
type gathering struct {
	do   func(Found) error
	one  Found
	sum  []byte
	some bool
}

func (g *gathering) add(listed store.Listed) error {
	key := string(listed.Key())
	cut := strings.IndexByte(key, '/')
	if cut < 0 {
		return nil // a file directly in the source is no folder that arrives
	}
	folder := store.Key(key[:cut+1])
	if g.some && g.one.Key != folder {
		if err := g.end(); err != nil {
			return err
		}
	}
	g.some, g.one.Key = true, folder
	g.one.Size += max(0, listed.Size)
	if listed.Modified.After(g.one.Modified) {
		g.one.Modified = listed.Modified
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
