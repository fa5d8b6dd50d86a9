package view

import (
	"context"
	"io"

	"deftheron/core/store"
)

// memberSums are the hashes that the areas tell.
type memberSums struct{ of *members }

// SumKinds implements store.Checksummer.
func (s memberSums) SumKinds() []store.HashKind { return s.of.org.Able.Checksums.SumKinds() }

// Sum implements store.Checksummer.
func (s memberSums) Sum(ctx context.Context, ref store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	area, inner, err := s.of.ref(ctx, ref)
	if err != nil {
		return store.Hash{}, err
	}
	if sums := area.Capabilities().Checksums; sums != nil {
		return sums.Sum(ctx, inner, revision, kind)
	}
	return store.Hash{}, store.Errorf(store.ErrUnsupported, "%s: no %s is known", ref, kind)
}

// memberExports are the exports of the areas.
type memberExports struct{ of *members }

// DocumentKinds implements store.Exporter.
func (e memberExports) DocumentKinds() []store.DocumentKind {
	return e.of.org.Able.Exports.DocumentKinds()
}

// Export implements store.Exporter.
func (e memberExports) Export(ctx context.Context, ref store.Ref, revision, format string) (io.ReadCloser, error) {
	area, inner, err := e.of.ref(ctx, ref)
	if err != nil {
		return nil, err
	}
	if exports := area.Capabilities().Exports; exports != nil {
		return exports.Export(ctx, inner, revision, format)
	}
	return nil, store.Errorf(store.ErrUnsupported, "%s cannot be exported", ref)
}

// memberSharing are the share lists of the areas. A member owns their folder.
type memberSharing struct{ of *members }

// ShareLevels implements store.Sharing.
func (s memberSharing) ShareLevels() []store.ShareLevel { return s.of.org.Able.Sharing.ShareLevels() }

// KnowsPerson implements store.Sharing.
func (s memberSharing) KnowsPerson(ctx context.Context, person string) (bool, error) {
	return s.of.org.Able.Sharing.KnowsPerson(ctx, person)
}

// ShareList implements store.Sharing.
func (s memberSharing) ShareList(ctx context.Context, ref store.Ref) (store.ShareList, error) {
	if ref.IsStart() {
		return store.ShareList{}, nil
	}
	if ref.Folder.Path == "" {
		known, err := s.of.all(ctx, freshMembers)
		return store.ShareList{Owner: known[ref.Name].Mail}, err
	}
	sharing, inner, err := s.within(ctx, ref)
	if err != nil {
		return store.ShareList{}, err
	}
	return sharing.ShareList(ctx, inner)
}

// Share implements store.Sharing.
func (s memberSharing) Share(ctx context.Context, ref store.Ref, with store.SharedWith) error {
	sharing, inner, err := s.within(ctx, ref)
	if err != nil {
		return err
	}
	return sharing.Share(ctx, inner, with)
}

// SetOwner implements store.Sharing.
func (s memberSharing) SetOwner(ctx context.Context, ref store.Ref, person string) error {
	sharing, inner, err := s.within(ctx, ref)
	if err != nil {
		return err
	}
	return sharing.SetOwner(ctx, inner, person)
}

func (s memberSharing) within(ctx context.Context, ref store.Ref) (store.Sharing, store.Ref, error) {
	area, inner, err := s.of.ref(ctx, ref)
	if err != nil {
		return nil, ref, err
	}
	if sharing := area.Capabilities().Sharing; sharing != nil {
		return sharing, inner, nil
	}
	return nil, ref, store.Errorf(store.ErrUnsupported, "%s has no share list", ref)
}
