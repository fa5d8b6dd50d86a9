package sealed

import (
	"context"
	"io"
	"strings"
	"time"

	"deftheron/core/store"
)

// clean is [store.Capabilities.Clean]: the contents of a run that no manifest names, and
// its uploads.
func (p *Place) clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	cleaned, err := p.cleanUploads(ctx, cleaning)
	if err != nil || cleaning.OnlyUploads {
		return cleaned, err
	}
	blocks, err := p.blocksOf(ctx, cleaning.Run)
	if err != nil {
		return cleaned, err
	}
	referred := map[string]map[string]bool{}
	for _, id := range blocks {
		left, err := p.cleanBlock(ctx, cleaning.Run, id, referred)
		cleaned = append(cleaned, left...)
		if err != nil {
			return cleaned, err
		}
	}
	return cleaned, nil
}

// cleanUploads aborts the uploads that the run will not continue.
func (p *Place) cleanUploads(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	if p.base.Capabilities().Clean == nil || len(cleaning.Uploads) == 0 {
		return nil, nil
	}
	beneath := store.Cleaning{Run: cleaning.Run, OnlyUploads: true, Keep: map[string]bool{}}
	for id, keep := range cleaning.Keep {
		if up, err := parseUpload(id); err == nil {
			beneath.Keep[up.ID] = keep
		}
	}
	places := map[store.Ref]store.Ref{}
	for _, ref := range cleaning.Uploads {
		for n := 0; ; n++ {
			at := p.contentPlace(p.uploadContent(cleaning.Run, ref.As(store.KindFile), n))
			beneath.Uploads, places[at] = append(beneath.Uploads, at), ref
			_, err := p.base.Stat(ctx, at)
			if store.KindOf(err) == store.ErrNotFound {
				break
			}
			if err != nil {
				return nil, err
			}
		}
	}
	if len(beneath.Uploads) > 0 {
		beneath.Folder = beneath.Uploads[0].Folder
	}
	cleaned, err := store.Clean(ctx, p.base, beneath)
	for i, one := range cleaned {
		if ref, ok := places[one.Place]; ok {
			cleaned[i].Place = ref
		}
	}
	return cleaned, err
}

// blocksOf are the blocks that a run has written to, but for those that it writes to now.
func (p *Place) blocksOf(ctx context.Context, run string) (ids []string, err error) {
	p.mu.Lock()
	open := map[string]bool{}
	for _, in := range p.open {
		open[in.id] = true
	}
	p.mu.Unlock()
	for one, err := range p.base.List(ctx, store.Folder{Path: p.Folder.Child(contentsPath)}) {
		if store.KindOf(err) == store.ErrNotFound {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		if one.Kind == store.KindFolder && blockRun(one.Name) == run && !open[one.Name] {
			ids = append(ids, one.Name)
		}
	}
	return ids, nil
}

// cleanBlock removes the contents of a block that no manifest names.
func (p *Place) cleanBlock(ctx context.Context, run, id string, referred map[string]map[string]bool) ([]store.Leftover, error) {
	at := store.Folder{Path: p.Folder.Child(contentsPath).Child(id)}
	there := map[string]store.Entry{}
	for one, err := range p.base.List(ctx, at) {
		if err != nil {
			return nil, err
		}
		there[one.Name] = one
	}
	if _, complete := there[completeFile]; complete {
		return nil, nil
	}
	cleaned, err := store.Clean(ctx, p.base, store.Cleaning{Run: run, Folder: at})
	if err != nil {
		return cleaned, err
	}
	for name, one := range there {
		content, isContent := strings.CutSuffix(name, ".age")
		if _, kept := there[content+keptSuffix]; !isContent || kept {
			continue
		}
		isReferred, err := p.isReferred(ctx, id+"/"+content, referred)
		if err != nil {
			return cleaned, err
		}
		if isReferred {
			continue
		}
		if _, err := p.base.Remove(ctx, one.Ref(at), one.Revision); err != nil && store.KindOf(err) != store.ErrNotFound {
			return cleaned, err
		}
		cleaned = append(cleaned, store.Leftover{Run: run, Place: one.Ref(at)})
	}
	if strings.HasSuffix(id, "-parts") { // to which more may come
		return cleaned, nil
	}
	if err := p.noteComplete(ctx, id); err != nil {
		return cleaned, err
	}
	var held []string
	for name := range there {
		if content, is := strings.CutSuffix(name, keptSuffix); is {
			held = append(held, content)
		}
	}
	p.dropHeld(ctx, id, held)
	return cleaned, nil
}

// isReferred reports whether the folder that a content was written for has it. referred
// holds what folders have.
func (p *Place) isReferred(ctx context.Context, content string, referred map[string]map[string]bool) (bool, error) {
	_, folder, isCopy := strings.Cut(content, copyMark)
	if !isCopy {
		about, err := p.originOf(ctx, content)
		if err != nil || about.Folder == "" {
			return err != nil, err
		}
		folder = about.Folder
	}
	contents, ok := referred[folder]
	if !ok {
		var err error
		if contents, err = p.contentsOf(ctx, folder); err != nil {
			return true, err
		}
		referred[folder] = contents
	}
	return contents[content], nil
}

// originOf reads what the header of a content says of its place. One that is damaged says
// nothing: it was never whole.
func (p *Place) originOf(ctx context.Context, content string) (about origin, err error) {
	start, err := p.startOf(ctx, content)
	if err != nil {
		return about, err
	}
	seal, err := p.keys.openSeal(start)
	if err != nil {
		return about, nil //nolint:nilerr // see above
	}
	about, _ = seal.origin()
	return about, nil
}

// firstStart is how much of a content is read to see its header.
const firstStart = 4 << 10

// startOf reads the beginning of a content.
func (p *Place) startOf(ctx context.Context, content string) ([]byte, error) {
	body, err := p.base.Open(ctx, store.Reading{Place: p.contentPlace(content), Length: 0})
	if err != nil {
		return nil, err
	}
	defer body.Close()
	return io.ReadAll(io.LimitReader(body, firstStart))
}

// contentsOf are the contents that the manifest of a folder names. A folder that has no
// manifest has none.
func (p *Place) contentsOf(ctx context.Context, id string) (map[string]bool, error) {
	numbers, err := p.numbers(ctx, p.manifest(id))
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	f := p.folders[id]
	p.mu.Unlock()
	if len(numbers) == 0 {
		fresh := false
		if f != nil {
			f.mu.Lock()
			fresh = f.fresh
			f.mu.Unlock()
		}
		if !fresh {
			return nil, nil
		}
	}
	if f, err = p.enter(ctx, id, time.Second); err != nil {
		return nil, err
	}
	segments, newer := f.segments, f.changes()
	f.mu.Unlock()
	contents := map[string]bool{}
	for one, err := range merge(segments, newer) {
		if err != nil {
			return nil, err
		}
		contents[one.Content] = true
	}
	return contents, nil
}
