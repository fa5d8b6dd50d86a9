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
