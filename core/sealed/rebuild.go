package sealed

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"path"
	"slices"
	"strings"
	"time"

	"deftheron/core/spill"
	"deftheron/core/store"
)

// Rebuild makes missing or damaged manifests again from the headers of the contents, which
// say where each content was written. Names that
// were changed since, empty folders, and hashes do not come back; of a content that was
// replaced and not removed yet, both come back.
func (p *Place) Rebuild(ctx context.Context) (done store.Rebuilt, err error) {
	if err := p.Sync(ctx); err != nil {
		return done, err
	}
	r := &rebuilding{Place: p, ctx: ctx, done: &done, broken: map[string]bool{}, reached: map[string]store.Path{}}
	for { // until every folder that has a manifest is reached
		if err := r.visit(); err != nil {
			return done, err
		}
		more, err := r.unreferred()
		if err != nil {
			return done, err
		}
		if !more {
			return done, p.Sync(ctx)
		}
		if err := p.Sync(ctx); err != nil {
			return done, err
		}
	}
}

type rebuilding struct {
	*Place
	ctx     context.Context
	done    *store.Rebuilt
	broken  map[string]bool       // folders whose manifest is made again
	reached map[string]store.Path // folders, by id
	refers  spill.Sorter[struct{}]
}

// visit walks all folders that can be reached, begins the broken ones again, and
// gathers what contents they name.
func (r *rebuilding) visit() error {
	r.refers = spill.Sorter[struct{}]{}
	clear(r.reached)
	return r.walkFrom(r.root, "")
}

func (r *rebuilding) walkFrom(id string, at store.Path) error {
	if _, again := r.reached[id]; again {
		return nil
	}
	r.reached[id] = at
	f, err := r.enter(r.ctx, id, time.Second)
	if store.KindOf(err) == store.ErrRefused {
		if err = r.beginAnew(id); err != nil {
			return err
		}
		r.done.Folders = append(r.done.Folders, at)
		f, err = r.enter(r.ctx, id, time.Second)
	}
	if err != nil {
		return err
	}
	f.depth = len(at.Names())
	segments, newer := f.segments, f.changes()
	f.mu.Unlock()
	for one, err := range merge(segments, newer) {
		switch {
		case err != nil:
			return err
		case one.Removed != "":
		case one.Folder != "":
			err = r.walkFrom(one.Folder, at.Child(one.name()))
		default:
			err = r.refers.Add(one.Content, "", struct{}{})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// beginAnew gives a folder an empty manifest that stands for whatever is there.
func (r *rebuilding) beginAnew(id string) error {
	numbers, err := r.numbers(r.ctx, r.manifest(id))
	if err != nil {
		return err
	}
	known, err := r.heads.Head(r.ctx, id)
	if err != nil {
		return err
	}
	newest := known.Number
	for number := range numbers {
		newest = max(newest, number)
	}
	made, _, err := r.build(head{Folder: id, Number: newest + 1, From: 1}, nil, nil)
	if err != nil {
		return err
	}
	if err := r.makeFolder(r.ctx, r.manifest(id).Path); err != nil {
		return err
	}
	if err := r.send(r.ctx, id, made); err != nil {
		return err
	}
	r.mu.Lock()
	if f := r.folders[id]; f != nil {
		delete(r.folders, id)
	}
	r.mu.Unlock()
	r.broken[id] = true
	return r.heads.SaveHead(r.ctx, id, Head{Number: made.Number, MAC: made.mac})
}

// unreferred finds the contents that no manifest names, and names them again. more is set if
// a folder was reached again, whose entries must be read first.
func (r *rebuilding) unreferred() (more bool, err error) {
	var all spill.Sorter[store.Entry]
	defer all.Close()
	defer r.refers.Close()
	contents := store.Folder{Path: r.Folder.Child(contentsPath)}
	for block, err := range r.base.List(r.ctx, contents) {
		if store.KindOf(err) == store.ErrNotFound {
			break
		}
		if err != nil {
			return false, err
		}
		if block.Kind != store.KindFolder {
			continue
		}
		for one, err := range r.base.List(r.ctx, block.Folder(contents)) {
			if err != nil {
				return false, err
			}
			if name, ok := strings.CutSuffix(one.Name, ".age"); ok {
				if err := all.Add(block.Name+"/"+name, "", one); err != nil {
					return false, err
				}
			}
		}
	}
	next, stop := iter.Pull2(r.refers.All())
	defer stop()
	referred, failed, any := next()
	var orphans []orphan
	for one, err := range all.All() {
		if err != nil {
			return false, err
		}
		for any && failed == nil && referred.Key < one.Key {
			referred, failed, any = next()
		}
		if failed != nil {
			return false, failed
		}
		if any && referred.Key == one.Key {
			continue
		}
		found, err := r.orphanOf(one.Key, one.Value)
		if err != nil {
			return false, err
		}
		if found.entry == nil {
			r.done.Unknown++
			continue
		}
		orphans = append(orphans, found)
	}
	return r.adopt(orphans)
}

// orphan is a content that no manifest names, and where it was written.
type orphan struct {
	folder string
	path   store.Path // of the folder
	entry  *entry
}

// orphanOf reads the header of a content. The entry is nil where that says nothing.
func (r *rebuilding) orphanOf(content string, there store.Entry) (found orphan, err error) {
	start, err := r.startOf(r.ctx, content)
	if err != nil {
		return found, err
	}
	seal, err := r.keys.openSeal(start)
	if err != nil {
		return found, nil //nolint:nilerr // see above
	}
	is, ok := seal.origin()
	size, whole := plainSize(there.Size - int64(len(seal.start)))
	address, err := store.ParseAddress("/a" + is.Path)
	if !ok || !whole || err != nil {
		return found, nil //nolint:nilerr // see above
	}
	ref, _ := address.Place()
	_, set := r.sealedTo()
	one := &entry{Content: content, Size: size, Key: slices.Concat(seal.fileKey, seal.nonce), Header: int64(len(seal.start)), For: set}
	one.setName(ref.Name)
	if one.Modified, err = time.Parse(time.RFC3339Nano, is.Modified); err != nil {
		one.Modified = there.Modified
	}
	found = orphan{is.Folder, ref.Folder.Path, one}
	if _, folder, isCopy := strings.Cut(content, copyMark); isCopy {
		found.folder = folder
	}
	return found, nil
}

// adopt names contents again. Those whose folder was not reached wait until it is: of such
// folders the ones nearest to the start get their names first, as the others may be in them.
func (r *rebuilding) adopt(orphans []orphan) (more bool, err error) {
	depth := func(one orphan) int { return len(one.path.Names()) }
	slices.SortStableFunc(orphans, func(a, b orphan) int { return cmp.Compare(depth(a), depth(b)) })
	nearest := -1
	for _, one := range orphans {
		if _, reached := r.reached[one.folder]; reached {
			continue
		}
		if nearest >= 0 && depth(one) > nearest {
			break
		}
		nearest = depth(one)
		numbers, err := r.numbers(r.ctx, r.manifest(one.folder))
		if err != nil {
			return false, err
		}
		if len(numbers) == 0 {
			if err := r.beginAnew(one.folder); err != nil {
				return false, err
			}
			r.done.Folders = append(r.done.Folders, one.path)
		}
		if err := r.attach(one.folder, one.path); err != nil {
			return false, err
		}
		r.reached[one.folder] = one.path
		more = true
	}
	if more {
		return true, nil
	}
	for _, one := range orphans {
		if !r.broken[one.folder] {
			continue // it was replaced, or its run left it: its folder would name it
		}
		f, err := r.enter(r.ctx, one.folder, time.Hour)
		if err != nil {
			return false, err
		}
		err = f.put(r.Place, one.entry)
		f.mu.Unlock()
		if err != nil {
			return false, err
		}
		r.done.Files++
	}
	return false, nil
}

// put gives an entry a name that is free. f.mu is held.
func (f *folder) put(p *Place, one *entry) error {
	name := one.name()
	for n := 2; ; n++ {
		there, err := f.find(one.key())
		if err != nil {
			return err
		}
		if there == nil {
			f.set(p, one.key(), change{entry: one})
			return nil
		}
		suffix := path.Ext(name)
		one.setName(fmt.Sprintf("%s (recovered %d)%s", strings.TrimSuffix(name, suffix), n, suffix))
	}
}

// attach gives a folder its name again, and makes those that it is in where they are not
// there.
func (r *rebuilding) attach(id string, at store.Path) error {
	if at == "" {
		return nil // of another start than this one's
	}
	parent, name := at.Split()
	names := parent.Names()
	for i := range names {
		if _, err := r.MakeFolder(r.ctx, store.At(names[:i+1]...)); err != nil {
			return err
		}
	}
	f, err := r.folderAt(r.ctx, parent, time.Hour)
	if err != nil {
		return err
	}
	defer f.mu.Unlock()
	one := &entry{Folder: id}
	one.setName(name)
	return f.put(r.Place, one)
}
