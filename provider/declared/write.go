package declared

import (
	"cmp"
	"context"
	"fmt"
	"hash/fnv"
	"io"
	"slices"
	"time"

	"deftheron/core/store"
)

// Write implements store.Store.
func (a *account) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := a.check(writing.Place); err != nil {
		return store.Written{}, err
	}
	if writing.Size < 0 {
		return store.Written{}, store.Errorf(store.ErrUnsupported, "the size of %s is not known, and the service has to be told", writing.Place)
	}
	if limit := int64(a.definition.Limits.File); limit > 0 && writing.Size > limit {
		return store.Written{}, store.Errorf(store.ErrTooLarge, "%s has %d bytes; the service holds files of %d at most", writing.Place,
			writing.Size, limit)
	}
	upload := a.uploadFor(writing.Size)
	if upload == nil {
		return store.Written{}, store.Errorf(store.ErrUnsupported, "the provider %s has no way to write a file of %d bytes", a.definition.Name,
			writing.Size)
	}
	var written store.Written
	err := a.again(writing.Place.Folder, func() error {
		w, err := a.beginWriting(ctx, upload, writing)
		if err != nil {
			return err
		}
		written, err = w.run(ctx)
		return err
	})
	return written, err
}

// uploadFor is the first way of writing that is for files of a size.
func (a *account) uploadFor(size int64) *Upload {
	for i := range a.definition.Uploads {
		upload := &a.definition.Uploads[i]
		if (upload.UpTo == 0 || size <= int64(upload.UpTo)) && (upload.Above == 0 || size > int64(upload.Above)) {
			return upload
		}
	}
	return nil
}

// writer is one file on its way.
type writer struct {
	a       *account
	upload  *Upload
	writing store.Writing
	in      scope
	before  *found // what is there, where that had to be known
	aside   bool   // it goes to a name of ours first
	begun   bool
	// looks says that the service does not check the condition by itself: it is
	// looked just before the request that gives the file its name.
	looks bool
	soon  bool // it is looked only then, for a file so small
}

// beginWriting checks the condition as far as the service does not, and says
// what the requests see.
func (a *account) beginWriting(ctx context.Context, upload *Upload, writing store.Writing) (*writer, error) {
	w := &writer{a: a, upload: upload, writing: writing}
	parentID, err := a.folderID(ctx, writing.Place.Folder)
	if err != nil {
		return nil, err
	}
	revision, replaces := writing.If.Expect()
	absent := writing.If.IsAbsent()
	checked := absent && slices.Contains(upload.Conditions, "absent") || replaces && slices.Contains(upload.Conditions, "revision")
	w.looks = !checked && (absent || replaces)
	w.soon = w.looks && absent && writing.Size <= sentInVain
	if !checked && !w.soon || !absent && (a.definition.Addressed == "id" || upload.Replaces == "remove") {
		if w.before, err = w.condition(ctx); err != nil {
			return nil, err
		}
	}
	name := writing.Place.Name
	if w.before != nil && upload.Replaces == "remove" && !a.definition.Names.Twins {
		name, w.aside = store.ArrivingName(writing.Run, fmt.Sprintf("%016x", nameSum(writing.Place))), true
	}
	w.in = a.placed(a.fixed(), writing.Place.Folder, parentID, name)
	w.in["id"], w.in["revision"] = nil, nil
	condition := map[string]any{"absent": absent, "revision": nil, "any": !absent && !replaces}
	if replaces {
		condition["revision"] = revision
	}
	if upload.Replaces == "remove" {
		condition = map[string]any{"absent": true, "revision": nil, "any": false}
	} else if w.before != nil {
		w.in["id"], w.in["revision"] = idValue(w.before.ID), idValue(w.before.Revision)
	}
	w.in["if"], w.in["size"], w.in["run"] = condition, int(writing.Size), writing.Run
	w.in["modified"], w.in["modified_ms"] = nil, nil
	if !writing.Modified.IsZero() {
		w.in["modified"] = writing.Modified.UTC().Format(time.RFC3339Nano)
		w.in["modified_ms"] = int(writing.Modified.UnixMilli())
	}
	w.in["kept"] = map[string]any{}
	return w, w.hash(ctx)
}

// sentInVain is the size up to which a file is sent before it is looked whether one of
// its name is there: that is done before its last piece in any case.
const sentInVain = 256 << 10

// condition looks at what is at the place, and returns it if it is what the write is to
// replace; nil for nothing. The error is that of a condition that does not hold.
func (w *writer) condition(ctx context.Context) (*found, error) {
	place := w.writing.Place
	revision, replaces := w.writing.If.Expect()
	absent := w.writing.If.IsAbsent()
	before, err := w.a.look(ctx, w.a.occupied(place))
	switch {
	case store.KindOf(err) == store.ErrNotFound && replaces:
		return nil, store.Errorf(store.ErrChanged, "%s is not there any more", place)
	case store.KindOf(err) == store.ErrNotFound:
		return nil, nil
	case err != nil:
		return nil, err
	case absent:
		return nil, store.Errorf(store.ErrExists, "%s already exists", place)
	case before.Kind == store.KindFolder:
		return nil, store.Errorf(store.ErrExists, "%s is a folder", place)
	case replaces && before.Revision != revision:
		return nil, store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", place, before.Revision, revision)
	}
	return &before, nil
}

// stillHolds looks at the condition once more, as the last thing before the file gets
// its name: a long upload leaves time for somebody else. In a large folder, a small file
// of a run is only looked for afterwards, by withdraw: the run has listed the folder, and
// a service that allows twins replaces nothing.
func (w *writer) stillHolds(ctx context.Context) error {
	if !w.looks || w.aside {
		return nil
	}
	if w.soon && w.a.definition.Names.Twins && store.CanIdle(ctx) && w.a.beside.isLarge(w.writing.Place.Folder, w.a.opening.Now()) {
		return nil
	}
	_, err := w.condition(ctx)
	return err
}

// occupied is the ref of what would be in the way of a file.
func (a *account) occupied(place store.Ref) store.Ref {
	if a.definition.Names.Beside {
		return place.As(store.KindFile)
	}
	return place.As("")
}

// hash computes what has to be known of the content before it is sent.
func (w *writer) hash(ctx context.Context) error {
	if len(w.upload.Hashes) == 0 {
		return nil
	}
	stream, err := w.writing.Content.Open(ctx)
	if err != nil {
		return err
	}
	defer stream.Close()
	sums, err := hashesOf(store.Exactly(stream, w.writing.Size), w.upload.Hashes)
	w.in["hash"] = sums
	return err
}

// hashesOf reads to the end and returns hashes by kind, in hexadecimal.
func hashesOf(r io.Reader, kinds []string) (map[string]any, error) {
	var writers []io.Writer
	sums := map[string]any{}
	states := map[string]interface{ Sum([]byte) []byte }{}
	for _, kind := range kinds {
		state := store.HashKind(kind).New()
		writers, states[kind] = append(writers, state), state
	}
	if _, err := io.Copy(io.MultiWriter(writers...), r); err != nil {
		return nil, err
	}
	for kind, state := range states {
		sums[kind] = store.HashOf(store.HashKind(kind), state.Sum(nil)).Hex
	}
	return sums, nil
}

// run sends the file and returns it as it is stored.
func (w *writer) run(ctx context.Context) (store.Written, error) {
	one, err := w.send(ctx)
	if err != nil {
		return store.Written{}, err
	}
	if w.aside {
		if one, err = w.swap(ctx, one); err != nil {
			return store.Written{}, err
		}
	} else if w.before != nil && w.upload.Replaces == "remove" {
		if err := w.removeBefore(ctx); err != nil {
			place := w.writing.Place
			place.ID = one.ID
			_ = w.a.removeFound(context.WithoutCancel(ctx), place, one) // not two of it
			return store.Written{}, err
		}
	} else if err := w.a.withdraw(ctx, w.writing.Place, one, w.before); err != nil {
		return store.Written{}, err
	}
	return w.a.written(one), nil
}

// written is a stored file with its verification.
func (a *account) written(one found) store.Written {
	written := store.Written{Entry: one.Entry}
	if kind := a.definition.verificationKind(); kind != "" {
		written.Verification = one.Hashes.Get(kind)
	}
	return written
}

// withdraw takes back what was made where somebody else made an entry of that
// name in the same moment, in a service that lets both be: the earlier stays.
func (a *account) withdraw(ctx context.Context, place store.Ref, made found, before *found) error {
	if !a.definition.Names.Twins || before != nil {
		return nil
	}
	all, err := a.beside.named(ctx, a, place.Folder, place.Name, true)
	all = slices.Clone(all) // others have it too
	if err != nil {
		return store.Errorf(store.ErrOutcomeUnknown, "%s was made, and it could not be looked whether it is the only one: %w", place, err)
	}
	if a.definition.Names.Beside {
		all = slices.DeleteFunc(all, func(one found) bool { return (one.Kind == store.KindFolder) != (made.Kind == store.KindFolder) })
	}
	if len(all) == 0 || all[0].ID == made.ID {
		return nil
	}
	if !slices.ContainsFunc(all, func(one found) bool { return one.ID == made.ID }) {
		return nil // what was made is not listed yet, or is gone again
	}
	if err := a.removeFound(ctx, place, made); err != nil && store.KindOf(err) != store.ErrNotFound {
		return store.Errorf(store.ErrOutcomeUnknown, "somebody else made %s in the same moment, and ours could not be taken back: %w", place, err)
	}
	return store.Errorf(store.ErrExists, "somebody else made %s in the same moment", place)
}

// removeBefore removes what is replaced, if it is still what it was.
func (w *writer) removeBefore(ctx context.Context) error {
	place := w.writing.Place
	place.ID = w.before.ID
	now, err := w.a.look(ctx, place)
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return err
	}
	if err != nil || now.Revision != w.before.Revision {
		return store.Errorf(store.ErrChanged, "%s changed just before it was replaced", place)
	}
	return w.a.removeFound(ctx, place, now)
}

// send carries out the upload's requests.
func (w *writer) send(ctx context.Context) (found, error) {
	u := w.upload
	done, drop := false, func() {}
	defer func() {
		if done || w.giveUp(ctx) {
			drop()
		}
	}()
	if u.Begin != nil {
		if _, err := w.a.do(ctx, "beginning an upload", u.Begin, w.in, doing{}); err != nil {
			return found{}, err
		}
		w.begun = true
		var err error
		if drop, err = w.keep(ctx); err != nil {
			return found{}, err
		}
	}
	got, parts, err := w.content(ctx)
	if err != nil {
		return found{}, err
	}
	if u.Finish != nil {
		if err := w.stillHolds(ctx); err != nil {
			return found{}, err
		}
		w.in["parts"] = parts
		if got, err = w.a.do(ctx, "finishing an upload", u.Finish, w.in, doing{changes: true}); err != nil {
			return found{}, err
		}
	}
	done = true
	return w.stored(ctx, got)
}

// stored is the entry that was written.
func (w *writer) stored(ctx context.Context, got *answer) (found, error) {
	var one found
	var err error
	if w.upload.Answer == "none" || got == nil || got.body == nil {
		place := w.writing.Place.Folder.Ref(textOf(w.in["name"]))
		if w.before != nil && w.upload.Replaces != "remove" {
			place.ID = w.before.ID
		}
		one, err = w.a.look(ctx, place)
	} else {
		one, err = w.a.entryOf(ctx, "writing", got, w.in)
	}
	if err != nil {
		return found{}, store.Errorf(store.ErrOutcomeUnknown, "%s was sent, and what became of it cannot be told: %w", w.writing.Place, err)
	}
	if err := w.a.sameAsAsked(&one, textOf(w.in["name"]), "writing"); err != nil {
		return found{}, err
	}
	if one.Size >= 0 && one.Size != w.writing.Size {
		_ = w.a.removeFound(ctx, w.writing.Place, one)
		return found{}, store.Errorf(store.ErrTryAgain, "%s arrived with %d bytes, and was sent with %d", w.writing.Place, one.Size,
			w.writing.Size)
	}
	if kind := w.a.definition.verificationKind(); kind != "" && one.Hashes.Get(kind).IsZero() && one.ID != "" {
		place := w.writing.Place
		place.ID = one.ID
		if again, err := w.a.look(ctx, place); err == nil && again.Revision == one.Revision {
			one.Hashes = again.Hashes // the answer to the write did not tell them all
		}
	}
	return one, nil
}

// giveUp ends an upload that failed, and reports whether nothing of it is left. It goes
// on when the write was cancelled.
func (w *writer) giveUp(ctx context.Context) bool {
	if !w.begun || w.giveUpOperation() == nil {
		return true
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), giveUpTime)
	defer cancel()
	if _, err := w.a.do(ctx, "giving up an upload", w.giveUpOperation(), w.in, doing{}); err != nil && store.KindOf(err) != store.ErrNotFound {
		w.a.opening.Log.Debug("an upload could not be cancelled", "place", w.writing.Place.String(), "error", err)
		return false
	}
	return true
}

func nameSum(place store.Ref) uint64 {
	sum := fnv.New64a()
	_, _ = io.WriteString(sum, place.String())
	return sum.Sum64()
}

// partSize is how many bytes a piece has.
func (w *writer) partSize(ctx context.Context) (int64, error) {
	pieces := w.upload.Pieces
	size := cmp.Or(int64(pieces.Size), 8<<20)
	if pieces.SizeBy.Given() {
		value, err := pieces.SizeBy.run(ctx, w.in.asInput(), nil)
		if err != nil {
			return 0, err
		}
		if n, ok := intOf(value); ok && n > 0 {
			size = n
		}
	}
	return pieces.fit(size, w.writing.Size), nil
}

// fit makes pieces larger to keep to their most, and aligns them.
func (p *Pieces) fit(size, file int64) int64 {
	if p.Most > 0 {
		size = max(size, (file+int64(p.Most)-1)/int64(p.Most))
	}
	if align := int64(p.Align); align > 0 {
		size = (size + align - 1) / align * align
	}
	return max(size, 1)
}
