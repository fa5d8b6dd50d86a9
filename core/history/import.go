package history

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"deftheron/core/listing"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// Part is a part as it is found in an account.
type Part struct {
	Name   string
	Folder store.Folder
}

// Parts returns the parts that an account holds; none where it has no history.
func Parts(ctx context.Context, s store.Store) ([]Part, error) {
	parts, err := retry.Read(ctx, func() (parts []Part, err error) {
		folder := store.Folder{Path: store.HistoryFolder}
		for entry, err := range s.List(ctx, folder) {
			if err != nil {
				return nil, err
			}
			if _, _, ok := ParsePart(entry.Name); ok && entry.Kind == store.KindFolder {
				parts = append(parts, Part{entry.Name, entry.Folder(folder)})
			}
		}
		return parts, nil
	})
	if store.KindOf(err) == store.ErrNotFound {
		err = nil
	}
	return parts, err
}

// ReadPart calls add with the changes of a part: first those in its manifests, each with the
// number of its manifest, and then one for each content of the part, with the number 0; add
// must ignore the contents that a manifest has listed. damaged holds the manifests that could
// not be read to their end.
func ReadPart(ctx context.Context, s store.Store, part Part, add func(manifest int64, change Change) error) (damaged []error, err error) {
	_, run, _ := ParsePart(part.Name)
	held := part.Folder
	if run != "" {
		held = store.Folder{Path: part.Folder.Path.Child(contents)}
		if damaged, err = readManifests(ctx, s, part, add); err != nil {
			return damaged, err
		}
	}
	return damaged, readContents(ctx, s, part, held, add)
}

func readContents(ctx context.Context, s store.Store, part Part, held store.Folder, add func(manifest int64, change Change) error) error {
	began, run, _ := ParsePart(part.Name)
	for listed, err := range listing.Flat(ctx, s, held) {
		if err != nil {
			if store.KindOf(err) == store.ErrNotFound {
				return nil
			}
			return err
		}
		if listed.Kind != store.KindFile {
			continue
		}
		key := listed.Key()
		now, err := s.Stat(ctx, key.Ref("", store.KindFile))
		how := Deleted
		if err == nil && now.Kind == store.KindFile {
			how = Overwritten
		} else if err != nil && store.KindOf(err) != store.ErrNotFound {
			return err
		}
		if err := add(0, Change{Path: key, At: began, How: how, Size: listed.Size, Modified: listed.Modified, Hash: hashOf(listed.Entry),
			Kept: store.Key(held.Path) + key, Run: run}); err != nil {
			return err
		}
	}
	return nil
}

func hashOf(entry store.Entry) string {
	for _, kind := range store.HashKinds() {
		if hash := entry.Hashes.Get(kind); !hash.IsZero() {
			return hash.String()
		}
	}
	return ""
}

func readManifests(ctx context.Context, s store.Store, part Part,
	add func(manifest int64, change Change) error) (damaged []error, err error) {
	var names []string
	for entry, err := range listing.Sorted(ctx, s, part.Folder) {
		if err != nil {
			return nil, err
		}
		if IsManifest(entry.Name) && entry.Kind == store.KindFile {
			names = append(names, entry.Name)
		}
	}
	for _, name := range names {
		number, err := strconv.ParseInt(strings.TrimSuffix(strings.TrimPrefix(name, manifestPrefix), manifestSuffix), 10, 64)
		if err != nil || number <= 0 {
			continue // somebody's file
		}
		place := part.Folder.Ref(name).As(store.KindFile)
		body, err := s.Open(ctx, store.Reading{Place: place})
		if err != nil {
			return damaged, err
		}
		err = DecodeManifest(body, func(change Change) error { return add(number, change) })
		err = errors.Join(err, body.Close())
		if wrong := (&LineError{}); errors.As(err, &wrong) {
			damaged = append(damaged, fmt.Errorf("the manifest %s is damaged: %w", place, err))
		} else if err != nil {
			return damaged, err
		}
	}
	return damaged, nil
}
