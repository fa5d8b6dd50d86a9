package sealed

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"

	"deftheron/core/store"
)

// removal is a content that is removed once the manifest of its folder says so. Removals
// are noted at the provider before the manifest is written, so that a process that ends in
// between leaves nothing that is never cleaned up.
type removal struct {
	Content string `json:"content"`
	Folder  string `json:"folder"`
}

// doomedPath is the folder of the notes about removals.
const doomedPath = "removals"

// removals returns the contents that are unused once the pending changes are written.
func removals(dirty []*folder) (all []removal) {
	for _, f := range dirty {
		f.mu.Lock()
		for _, one := range f.writing {
			if one.old.contentID() != "" && !one.kept && one.leaves == nil && one.old.id() != one.entry.id() {
				all = append(all, removal{one.old.Content, f.id})
			}
		}
		f.mu.Unlock()
	}
	return all
}

// noteRemovals writes a note about contents, and returns where it is; the zero Ref where
// there are none.
func (p *Place) noteRemovals(ctx context.Context, all []removal) (note store.Ref, err error) {
	var lines bytes.Buffer
	encoder := json.NewEncoder(&lines)
	for _, one := range all {
		if one.Folder == "" {
			continue
		}
		if err := encoder.Encode(one); err != nil {
			return note, err
		}
	}
	if lines.Len() == 0 {
		return note, nil
	}
	note = p.at(doomedPath, newID()+".jsonl")
	if err := p.makeFolder(ctx, note.Folder.Path); err != nil {
		return note, err
	}
	return note, p.put(ctx, note, store.Absent, lines.Bytes())
}

// dropNote removes a note whose contents are removed.
func (p *Place) dropNote(ctx context.Context, note store.Ref) {
	if note == (store.Ref{}) {
		return
	}
	if _, err := p.base.Remove(ctx, note, ""); err != nil && store.KindOf(err) != store.ErrNotFound {
		p.log.Warn("a note about removals is left in a sealed place", "note", note.String(), "error", err)
	}
}

// goOn completes the removals of a process that ended, if its manifests confirm them.
func (p *Place) goOn(ctx context.Context) error {
	if p.wentOn || p.readOnly {
		return nil
	}
	var notes []store.Ref
	at := store.Folder{Path: p.Folder.Child(doomedPath)}
	for one, err := range p.base.List(ctx, at) {
		if store.KindOf(err) == store.ErrNotFound {
			break
		}
		if err != nil {
			return err
		}
		if strings.HasSuffix(one.Name, ".jsonl") {
			notes = append(notes, one.Ref(at))
		}
	}
	referred := map[string]map[string]bool{}
	for _, note := range notes {
		if err := p.goOnWith(ctx, note, referred); err != nil {
			return err
		}
	}
	p.wentOn = true
	return nil
}

func (p *Place) goOnWith(ctx context.Context, note store.Ref, referred map[string]map[string]bool) error {
	lines, err := p.get(ctx, note)
	if err != nil {
		return err
	}
	var contents []removal
	for line := range bytes.Lines(lines) {
		var one removal
		if err := json.Unmarshal(line, &one); err != nil || one.Content == "" {
			continue // it was cut off: nothing was written after it
		}
		there, ok := referred[one.Folder]
		if !ok {
			if there, err = p.contentsOf(ctx, one.Folder); err != nil {
				return err
			}
			referred[one.Folder] = there
		}
		if !there[one.Content] {
			contents = append(contents, one)
		}
	}
	p.remove(ctx, contents)
	p.dropNote(ctx, note)
	return nil
}
