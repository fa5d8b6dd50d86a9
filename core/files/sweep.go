package files

import (
	"context"

	"deftheron/core/history"
	"deftheron/core/store"
)

// Sweep removes what is marked: first the contents, then their lines in manifests, and last
// their records, so that it can be begun again wherever it ended.
func Sweep(ctx context.Context, s store.Store, records history.Thinning) error {
	for {
		doomed, err := records.TakeDoomed(ctx)
		if err != nil || len(doomed.Gone) == 0 {
			return err
		}
		for _, going := range doomed.Gone {
			if !going.HasContent() {
				continue
			}
			if err := going.Content().Remove(ctx, s); err != nil {
				return err
			}
		}
		if err := relist(ctx, s, doomed); err != nil {
			return err
		}
		last, err := records.DropDoomed(ctx, doomed)
		if err != nil {
			return err
		}
		if last {
			if err := removePart(ctx, s, doomed.Part); err != nil {
				return err
			}
		}
	}
}

func removeFile(ctx context.Context, s store.Store, place store.Ref) error {
	_, err := s.Remove(ctx, place, "")
	if store.KindOf(err) == store.ErrNotFound {
		err = nil
	}
	return err
}

// relist writes a manifest again without what goes, or removes it.
func relist(ctx context.Context, s store.Store, doomed history.Doomed) error {
	if doomed.Manifest == 0 {
		return nil
	}
	place := store.Folder{Path: history.PartFolder(doomed.Part)}.Ref(history.ManifestName(doomed.Manifest)).As(store.KindFile)
	if len(doomed.Stay) > 0 {
		return history.PutManifest(ctx, s, place, "", doomed.Stay)
	}
	return removeFile(ctx, s, place)
}

// removePart removes the folder of a part of which nothing is kept.
func removePart(ctx context.Context, s store.Store, part string) error {
	folder := history.PartFolder(part).Ref()
	left, err := Survey(ctx, s, folder)
	if err == nil {
		_, err = Remove(ctx, s, folder, left)
	}
	if store.KindOf(err) == store.ErrNotFound {
		err = nil
	}
	return err
}
