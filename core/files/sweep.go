package files

import (
	"context"
	"maps"
	"slices"

	"deftheron/core/history"
	"deftheron/core/store"
)

// Sweep removes the marked versions: first the contents, then their lines in manifests, and last
// their records, so that it can start again wherever it was interrupted.
func Sweep(ctx context.Context, s store.Store, records history.Thinning) error {
	for {
		doomed, err := records.TakeDoomed(ctx)
		if err != nil || len(doomed.Gone) == 0 {
			return err
		}
		if err := removeContents(ctx, s, doomed.Gone); err != nil {
			return err
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

// removeContents removes contents, and folders of runs that are empty then.
func removeContents(ctx context.Context, s store.Store, gone []history.Going) error {
	folders := map[store.Path]bool{}
	for _, going := range gone {
		if !going.HasContent() {
			continue
		}
		content := going.Content()
		if err := content.Remove(ctx, s); err != nil {
			return err
		}
		if going.How == history.Superseded {
			folders[content.Place.Folder.Path] = true
		}
	}
	for _, folder := range slices.Backward(slices.Sorted(maps.Keys(folders))) { // what is inside comes first
		for ; folder != ""; folder, _ = folder.Split() {
			if _, err := s.RemoveFolder(ctx, folder.Ref()); err != nil {
				break // something is in it
			}
		}
	}
	return nil
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

// removePart removes the folder of a part that has no versions left.
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
