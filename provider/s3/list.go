package s3

import (
	"context"
	"iter"
	"strings"

	"github.com/minio/minio-go/v7"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// pageSize is how many keys one request lists, the most that servers give.
const pageSize = 1000

// mostEmpty is how many pages without a key may follow each other.
const mostEmpty = 1000

// pages yields page after page below a prefix.
func (a *account) pages(ctx context.Context, prefix, delimiter string) iter.Seq2[listing, error] {
	return func(yield func(listing, error) bool) {
		token, empty := "", 0
		for {
			page, err := retry.Read(ctx, func() (listing, error) {
				return a.page(ctx, prefix, token, delimiter, pageSize)
			})
			if !yield(page, err) || err != nil || !page.More {
				return
			}
			if empty++; len(page.Objects)+len(page.Prefixes) > 0 {
				empty = 0
			}
			if page.Next == "" || page.Next == token || empty >= mostEmpty {
				yield(page, store.Errorf(store.ErrRefused,
					"the listing of /%s goes on without an end: the server says that there is more, and brings nothing", prefix))
				return
			}
			token = page.Next
		}
	}
}

// entryOf makes an entry of a listed object. An ETag is a revision; it is taken
// for an MD5 only where probing found that it is one.
func (a *account) entryOf(name string, object listed) store.Entry {
	etag := strings.Trim(object.ETag, `"`)
	entry := store.Entry{
		Name: name, Kind: store.KindFile, Size: object.Size, Modified: object.Modified, Revision: etag,
	}
	if a.found().etagIsMD5 && len(etag) == 32 && !strings.Contains(etag, "-") {
		entry.Hashes = store.Hashes{{Kind: store.MD5, Hex: strings.ToLower(etag)}}
	}
	return entry
}

func listedOf(object minio.ObjectInfo) listed {
	return listed{object.Key, object.ETag, object.Size, object.LastModified}
}

// List implements store.Store.
func (a *account) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		prefix := a.prefix + string(folder.Path)
		exists := prefix == ""
		for page, err := range a.pages(ctx, prefix, "/") {
			if err != nil {
				yield(store.Entry{}, err)
				return
			}
			entries := make([]store.Entry, 0, len(page.Objects)+len(page.Prefixes))
			for _, object := range page.Objects {
				exists = true
				name := strings.TrimPrefix(object.Key, prefix)
				if name == "" && object.Size == 0 {
					continue // the folder's own marker
				}
				if strings.HasSuffix(name, "/") {
					continue // its prefix follows, or, from some servers, it alone stands for it
				}
				entries = append(entries, a.entryOf(name, object))
			}
			for _, name := range foldersOf(page, prefix) {
				exists = true
				entries = append(entries, store.Entry{Name: name, Kind: store.KindFolder})
			}
			store.SortByKey(entries)
			for _, entry := range entries {
				if !yield(entry, nil) {
					return
				}
			}
		}
		if !exists && folder.Path != "" {
			yield(store.Entry{}, store.Errorf(store.ErrNotFound, "the folder /%s is not there", folder.Path))
		}
	}
}

// foldersOf returns the names of the folders of a page, each once: from the prefixes, and
// from the markers that some servers list instead of a prefix.
func foldersOf(page listing, prefix string) (names []string) {
	seen := map[string]bool{}
	add := func(key string) {
		name, isFolder := strings.CutSuffix(strings.TrimPrefix(key, prefix), "/")
		if isFolder && key != prefix && !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
	}
	for _, sub := range page.Prefixes {
		add(sub.Prefix)
	}
	for _, object := range page.Objects {
		add(object.Key)
	}
	return names
}

// ListFlat is store.Capabilities.ListFlat: keys come in order, and the folders
// that they imply are put in before them.
func (a *account) ListFlat(ctx context.Context, folder store.Folder) iter.Seq2[store.Listed, error] {
	return func(yield func(store.Listed, error) bool) {
		prefix := a.prefix + string(folder.Path)
		exists := prefix == ""
		open := "" // the folder that is open, relative to the one listed
		for page, err := range a.pages(ctx, prefix, "") {
			if err != nil {
				yield(store.Listed{}, err)
				return
			}
			for _, object := range page.Objects {
				exists = true
				key := strings.TrimPrefix(object.Key, prefix)
				cut := strings.LastIndexByte(key, '/') + 1
				below, name := key[:cut], key[cut:]
				if !implied(open, below, yield) {
					return
				}
				open = below
				if name == "" && (object.Size == 0 || key == "") {
					continue // a marker
				}
				if !yield(store.Listed{Below: store.Path(below), Entry: a.entryOf(name, object)}, nil) {
					return
				}
			}
		}
		if !exists && folder.Path != "" {
			yield(store.Listed{}, store.Errorf(store.ErrNotFound, "the folder /%s is not there", folder.Path))
		}
	}
}

// implied yields the folders on the way to below that are not open yet.
func implied(open, below string, yield func(store.Listed, error) bool) bool {
	for at := 0; ; {
		slash := strings.IndexByte(below[at:], '/')
		if slash < 0 {
			return true
		}
		path := below[:at+slash+1]
		if !strings.HasPrefix(open, path) {
			parent, name := store.Path(path).Split()
			if !yield(store.Listed{Below: parent, Entry: store.Entry{Name: name, Kind: store.KindFolder}}, nil) {
				return false
			}
		}
		at += slash + 1
	}
}

// Stat implements store.Store: a file by its key, a folder by the objects below it.
func (a *account) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	if place.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	if place.Kind != store.KindFolder {
		entry, err := a.statFile(ctx, place)
		if store.KindOf(err) != store.ErrNotFound || place.Kind != "" {
			return entry, err
		}
	}
	page, err := a.page(ctx, a.keyOf(place)+"/", "", "/", 1)
	if err != nil {
		return store.Entry{}, err
	}
	if len(page.Objects)+len(page.Prefixes) == 0 {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is not there", place)
	}
	return store.Entry{Name: place.Name, Kind: store.KindFolder}, nil
}

// statFile looks up the object with a key. For the empty name it must have content: an
// empty object is the marker of the folder.
func (a *account) statFile(ctx context.Context, place store.Ref) (store.Entry, error) {
	key := a.keyOf(place)
	if key == "" {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is not a file", place)
	}
	object, err := a.core.StatObject(ctx, a.bucket, key, minio.StatObjectOptions{})
	if err != nil {
		return store.Entry{}, wrap("look at "+place.String(), err, false)
	}
	if strings.HasSuffix(key, "/") && object.Size == 0 {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is the marker of a folder", place)
	}
	return a.entryOf(place.Name, listedOf(object)), nil
}
