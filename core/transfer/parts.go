package transfer

import (
	"context"
	"errors"
	"slices"
	"time"

	"deftheron/core/compare"
	"deftheron/core/store"
)

// partSlots is how many parts are transferred in parallel over all lanes. A part needs
// buffers of less than a mebibyte, so this is far below the 64 MiB allowed.
const partSlots = 16

// moveParts writes a file in parts, going on with those that the records know.
func (a *attempt) moveParts(ctx context.Context, writer store.PartWriter, limits store.PartLimits,
	writing store.Writing) (store.Written, string, error) {
	upload, err := a.openUpload(ctx, writer, limits, writing)
	if err != nil {
		return store.Written{}, "", err
	}
	done := map[int]bool{}
	a.flight.moved.Store(0)
	for _, part := range upload.Parts {
		done[part.Number] = true
		a.flight.moved.Add(part.Size)
	}
	moving := &missing{attempt: a, writer: writer, writing: writing, upload: upload}
	for number := 1; int64(number-1)*upload.PartSize < writing.Size; number++ {
		if !done[number] {
			moving.numbers = append(moving.numbers, number)
		}
	}
	started := time.Now()
	err = moving.move(ctx, max(1, min(limits.Parallel, partSlots/max(1, a.Lanes)+1)))
	upload.Parts = append(upload.Parts, moving.written...)
	a.progress.waits.worked.Add(-int64(time.Since(started))) // parts go side by side, which is counted for the item too
	if err != nil {
		return store.Written{}, "", a.partsFailed(ctx, writer, writing, upload, err)
	}
	slices.SortFunc(upload.Parts, func(x, y store.Part) int { return x.Number - y.Number })
	if whole, ok := store.WholeOf(upload.Parts); ok && a.verificationKind() == store.CRC64NVME {
		a.note(whole.String())
	}
	written, err := writer.CommitParts(ctx, writing, upload.ID, upload.Parts)
	if err != nil {
		return store.Written{}, "", a.partsFailed(ctx, writer, writing, upload, err)
	}
	a.giveUpOthers(ctx, writing.Place, upload.ID)
	if err := a.uploads().DropUpload(ctx, a.ID, a.item.Seq); err != nil {
		return store.Written{}, "", err
	}
	verification, err := a.verifyParts(ctx, writing, written, upload.Parts)
	return written, verification, err
}

// openUpload returns the upload to continue, or starts one. It is recorded before it
// starts, so that it is found again whenever the process ends.
func (a *attempt) openUpload(ctx context.Context, writer store.PartWriter, limits store.PartLimits, writing store.Writing) (Upload, error) {
	upload, ok, err := a.uploads().LoadUpload(ctx, a.ID, a.item.Seq)
	if err != nil {
		return Upload{}, err
	}
	if ok && upload.ID != "" {
		if store.SameRevision(upload.Revision, a.item.Source.Revision) {
			return upload, nil
		}
		if err := writer.AbortParts(ctx, writing.Place, upload.ID); err != nil {
			return Upload{}, err
		}
	}
	upload = Upload{Revision: a.item.Source.Revision, PartSize: limits.Size(writing.Size)}
	a.inParts.Store(true)
	if err := a.uploads().SaveUpload(ctx, a.ID, a.item.Seq, upload); err != nil {
		return Upload{}, err
	}
	if upload.ID, err = writer.BeginParts(ctx, writing); err != nil {
		return Upload{}, err
	}
	return upload, a.uploads().SaveUpload(ctx, a.ID, a.item.Seq, upload)
}

// giveUpOthers aborts the uploads of a place whose ids are unknown: a server may have
// started one although its answer was lost, or the process ended before the answer came.
func (a *attempt) giveUpOthers(ctx context.Context, place store.Ref, kept string) {
	clean := a.route.Target.Store.Capabilities().Clean
	if clean == nil || !a.Resumed && a.try == 1 {
		return
	}
	cleaning := store.Cleaning{Run: a.ID, Uploads: []store.Ref{place}, OnlyUploads: true, Keep: map[string]bool{kept: true}}
	if _, err := clean(context.WithoutCancel(ctx), cleaning); err != nil {
		a.Log.Warn("could not look for abandoned uploads", "run", a.ID, "place", place.String(), "error", err)
	}
}

func (a *attempt) movePart(ctx context.Context, writer store.PartWriter, writing store.Writing, upload Upload,
	number int) (store.Part, error) {
	offset := int64(number-1) * upload.PartSize
	size := min(upload.PartSize, writing.Size-offset)
	body, err := a.openSource(ctx, offset, size)
	if err != nil {
		return store.Part{}, err
	}
	stream := store.NewStream(body, a.verificationKind(), a.counted)
	defer stream.Close()
	part, err := writer.WritePart(ctx, writing, upload.ID, number, size, stream)
	if err != nil {
		a.flight.moved.Add(-stream.Count())
		return store.Part{}, err
	}
	if sum := stream.Sum(); part.Hash == "" {
		part.Hash = sum.Hex // not told by the target: kept for the verification of the whole
	} else if part.Hash != sum.Hex {
		return store.Part{}, store.Errorf(store.ErrTryAgain, "part %d of %s arrived with %s and was sent with %s: %w", number, writing.Place,
			part.Hash, sum.Hex, store.ErrVerification)
	}
	return part, nil
}

// partsFailed gives an upload up where nothing can be gone on with. What broke
// off, or is interrupted, is kept for the next try or the next start.
func (a *attempt) partsFailed(ctx context.Context, writer store.PartWriter, writing store.Writing, upload Upload, err error) error {
	var source compare.SourceError
	keep := ctx.Err() != nil || errors.Is(err, context.Canceled)
	switch store.KindOf(err) {
	case store.ErrTryAgain, store.ErrSlowDown, store.ErrOutcomeUnknown:
		keep = keep || a.try < a.Retry.Tries
	}
	if errors.As(err, &source) && store.KindOf(err) == store.ErrChanged {
		keep = false
	}
	if keep {
		return err
	}
	if abort := writer.AbortParts(context.WithoutCancel(ctx), writing.Place, upload.ID); abort != nil {
		return errors.Join(err, abort)
	}
	return errors.Join(err, a.uploads().DropUpload(context.WithoutCancel(ctx), a.ID, a.item.Seq))
}

// giveUpUpload forgets the item's upload, if it has one, and what it holds.
func (a *attempt) giveUpUpload(ctx context.Context, place store.Ref) error {
	writer, _, ok := store.Parts(a.route.Target.Store, a.item.Size)
	if !ok {
		return nil
	}
	upload, ok, err := a.uploads().LoadUpload(ctx, a.ID, a.item.Seq)
	if err != nil || !ok {
		return err
	}
	if upload.ID != "" {
		if err := writer.AbortParts(ctx, place, upload.ID); err != nil {
			return err
		}
	}
	return a.uploads().DropUpload(ctx, a.ID, a.item.Seq)
}

// verifyParts compares the target's hash of the whole file with the combined hash of its
// parts. If the target has none of the whole, each part was verified by itself.
func (a *attempt) verifyParts(ctx context.Context, writing store.Writing, written store.Written, parts []store.Part) (string, error) {
	if a.verificationKind() == store.CRC64NVME {
		whole, ok := store.WholeOf(parts)
		if !ok {
			return "", store.Errorf(store.ErrOutcomeUnknown, "a part of %s has no hash", writing.Place)
		}
		return store.Verify(ctx, a.route.Target.Store, writing, written, whole, writing.Size)
	}
	if a.route.Target.Store.Traits().VerificationKind == "" || written.Size != writing.Size {
		return "", store.Errorf(store.ErrOutcomeUnknown, "%s was put together and holds %d bytes of %d", writing.Place, written.Size,
			writing.Size)
	}
	if a.Rules.Verification == store.VerifyByReading {
		return a.verifyByReading(ctx, writing, written)
	}
	return string(a.verificationKind()) + " of each of " + plural(len(parts), "part") + " (told by the target)", nil
}

// verifyByReading reads both sides. What is another is removed again.
func (a *attempt) verifyByReading(ctx context.Context, writing store.Writing, written store.Written) (string, error) {
	mine, size, err := store.ReadBack(ctx, a.route.Source.Store, a.source(), a.item.Source.Revision, store.CRC64NVME)
	if err != nil {
		return "", compare.NewSourceError(err)
	}
	return store.Verify(ctx, a.route.Target.Store, writing, written, mine, size)
}

// abandonUploads gives up what a run that ends for good has left open.
func (r *Run) abandonUploads(ctx context.Context) error {
	if !r.wasResumed && !r.inParts.Load() {
		return nil // none was begun
	}
	uploads, err := r.Records.Uploads(ctx, r.ID)
	if err != nil || len(uploads) == 0 {
		return err
	}
	var problems []error
	for i, route := range r.Routes {
		cleaning := store.Cleaning{Run: r.ID, Folder: cleaningFolder(route)}
		for _, pending := range uploads {
			if pending.Item.Route == i {
				cleaning.Uploads = append(cleaning.Uploads, route.Target.place(pending.Item.to(), pending.Item.Kind))
			}
		}
		_, err := store.Clean(ctx, route.Target.Store, cleaning)
		problems = append(problems, err)
	}
	for _, pending := range uploads {
		problems = append(problems, r.Records.DropUpload(ctx, r.ID, pending.Item.Seq))
	}
	return errors.Join(problems...)
}
