package declared

import (
	"cmp"
	"context"
	"encoding/json"
	"io"

	"deftheron/core/store"
)

// partsUpload is the way of writing in numbered parts; nil where there is none, or
// where all of the content has to be read before it begins.
func (a *account) partsUpload() *Upload {
	for i := range a.definition.Uploads {
		upload := &a.definition.Uploads[i]
		if upload.Pieces != nil && upload.Pieces.Order == "any" && upload.Finish != nil && upload.Begin != nil && len(upload.Hashes) == 0 {
			return upload
		}
	}
	return nil
}

// PartLimits implements store.PartWriter.
func (a *account) PartLimits() (store.PartLimits, bool) {
	upload := a.partsUpload()
	if upload == nil {
		return store.PartLimits{}, false
	}
	return store.PartLimits{
		Above: max(int64(upload.Above), 0), Parallel: 4,
		Size: func(file int64) int64 { return upload.Pieces.fit(cmp.Or(int64(upload.Pieces.Size), 8<<20), file) },
	}, true
}

// begunUpload is the id of an upload: what its later requests have to know.
type begunUpload struct {
	Kept map[string]any `json:"kept"`
}

// resume returns the writer of an upload that has started before.
func (a *account) resume(ctx context.Context, writing store.Writing, upload string) (*writer, error) {
	var begun begunUpload
	if err := json.Unmarshal([]byte(upload), &begun); err != nil {
		return nil, store.Errorf(store.ErrNotFound, "the upload is not one of this account: %w", err)
	}
	w, err := a.beginWriting(ctx, a.partsUpload(), writing)
	if err == nil {
		w.in["kept"], w.begun = begun.Kept, true
	}
	return w, err
}

// BeginParts implements store.PartWriter.
func (a *account) BeginParts(ctx context.Context, writing store.Writing) (string, error) {
	if err := a.check(writing.Place); err != nil {
		return "", err
	}
	w, err := a.beginWriting(ctx, a.partsUpload(), writing)
	if err != nil {
		return "", err
	}
	if _, err := a.do(ctx, "beginning an upload", w.upload.Begin, w.in, doing{}); err != nil {
		return "", err
	}
	kept, _ := w.in["kept"].(map[string]any)
	id, err := json.Marshal(begunUpload{kept})
	return string(id), err
}

// WritePart implements store.PartWriter.
func (a *account) WritePart(ctx context.Context, writing store.Writing, upload string, number int, size int64,
	stream *store.Stream) (store.Part, error) {
	var begun begunUpload
	if err := json.Unmarshal([]byte(upload), &begun); err != nil {
		return store.Part{}, store.Errorf(store.ErrNotFound, "the upload is not one of this account: %w", err)
	}
	limits, _ := a.PartLimits()
	offset := int64(number-1) * limits.Size(writing.Size)
	p := &pieces{writer: &writer{a: a, upload: a.partsUpload(), writing: writing}, stream: stream, exact: store.Exactly(stream, size)}
	parentID, err := a.folderID(ctx, writing.Place.Folder)
	if err != nil {
		return store.Part{}, err
	}
	p.in = a.placed(a.fixed(), writing.Place.Folder, parentID, writing.Place.Name)
	p.in["size"], p.in["run"], p.in["kept"] = int(writing.Size), writing.Run, begun.Kept
	p.send, p.size, p.offset = p.upload.Send, limits.Size(writing.Size), offset
	if err := p.piece(ctx, size); err != nil {
		return store.Part{}, err
	}
	if _, err := io.Copy(io.Discard, p.exact); err != nil {
		return store.Part{}, err
	}
	receipt, err := json.Marshal(p.parts[0])
	return store.Part{Number: number, Size: size, Tag: string(receipt), Hash: stream.Sum().Hex}, err
}

// CommitParts implements store.PartWriter.
func (a *account) CommitParts(ctx context.Context, writing store.Writing, upload string, parts []store.Part) (store.Written, error) {
	w, err := a.resume(ctx, writing, upload)
	if err != nil {
		return store.Written{}, err
	}
	var all []any
	for _, part := range parts {
		var one map[string]any
		if err := json.Unmarshal([]byte(part.Tag), &one); err != nil {
			return store.Written{}, store.Errorf(store.ErrNotFound, "the receipt of part %d cannot be read: %w", part.Number, err)
		}
		all = append(all, whole(one))
	}
	w.in["parts"] = all
	got, err := a.do(ctx, "finishing an upload", w.upload.Finish, w.in, doing{changes: true})
	if err != nil {
		return store.Written{}, err
	}
	one, err := w.stored(ctx, got)
	if err != nil {
		return store.Written{}, err
	}
	if err := a.withdraw(ctx, writing.Place, one, w.before); err != nil {
		return store.Written{}, err
	}
	return a.written(one), nil
}

// whole makes whole numbers of those that JSON made floating.
func whole(value any) any {
	switch v := value.(type) {
	case float64:
		if v == float64(int(v)) {
			return int(v)
		}
	case map[string]any:
		for name, one := range v {
			v[name] = whole(one)
		}
	case []any:
		for i, one := range v {
			v[i] = whole(one)
		}
	}
	return value
}

// AbortParts implements store.PartWriter.
func (a *account) AbortParts(ctx context.Context, place store.Ref, upload string) error {
	var begun begunUpload
	giveUp := a.partsUpload().GiveUp
	if err := json.Unmarshal([]byte(upload), &begun); err != nil || giveUp == nil {
		return nil
	}
	in := a.placed(a.fixed(), place.Folder, place.Folder.ID, place.Name)
	in["kept"] = begun.Kept
	_, err := a.do(ctx, "giving up an upload", giveUp, in, doing{})
	if store.KindOf(err) == store.ErrNotFound {
		return nil
	}
	return err
}

// Clean is store.Capabilities.Clean: it gives up the open uploads of a run, and
// removes what lies under names of ours.
func (a *account) Clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	if cleaning.OnlyUploads { // they are found by their run when it ends
		return nil, nil
	}
	gone, err := a.cleanArriving(ctx, cleaning)
	d := a.definition.Leftovers
	if d == nil || err != nil {
		return gone, err
	}
	for item, err := range a.pages(ctx, "looking for open uploads", &Operation{Step: d.Step}, d.Items, d.Next, a.fixed()) {
		if err != nil {
			return gone, err
		}
		item.input.Value = item.value
		run, err := d.Run.run(ctx, item.input, nil)
		if err != nil {
			return gone, err
		}
		if textOf(run) != cleaning.Run {
			continue
		}
		upload, err := uploadOf(ctx, d, item)
		if err != nil {
			return gone, err
		}
		if cleaning.Keep[upload] {
			continue
		}
		in := a.fixed()
		in["leftover"], in["kept"] = item.value, map[string]any{}
		if _, err := a.do(ctx, "giving up an upload", d.GiveUp, in, doing{}); err != nil {
			if store.KindOf(err) == store.ErrNotFound {
				continue
			}
			return gone, err
		}
		gone = append(gone, store.Leftover{Run: cleaning.Run, Upload: upload})
	}
	return gone, nil
}

// uploadOf is the id that BeginParts returned of an open upload.
func uploadOf(ctx context.Context, d *Leftovers, one item) (string, error) {
	kept, err := d.Kept.run(ctx, one.input, nil)
	if err != nil {
		return "", err
	}
	object, _ := kept.(map[string]any)
	id, err := json.Marshal(begunUpload{object})
	return string(id), err
}
