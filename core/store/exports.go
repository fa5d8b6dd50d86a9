package store

import (
	"context"
	"io"
	"strings"
)

// DocumentKind is a kind of document that exists only inside a service.
type DocumentKind struct {
	// Kind as entries tell it in Entry.Document.
	Kind string
	// Class is one of text, sheet, slides, drawing, note and other.
	Class string
	// Formats that it can be exported as, the default first.
	Formats []Format
}

// Format is a format to which a document can be exported.
type Format struct {
	Name  string // the extension, such as "odt"
	Media string // the media type
}

// Exporter is the ability to read documents that exist only inside a service,
// in formats that exist outside as well.
type Exporter interface {
	// DocumentKinds are the kinds of documents that the account may hold.
	DocumentKinds() []DocumentKind
	// Export reads a document in a format, at an expected revision (empty:
	// any). How long it is shows only at its end. ErrChanged as with Open;
	// ErrUnsupported for a format that there is not. The caller closes it.
	Export(ctx context.Context, place Ref, revision, format string) (io.ReadCloser, error)
}

// DocumentKindsOf returns the kinds of documents that the account may hold.
func DocumentKindsOf(s Store) []DocumentKind {
	if exports := s.Capabilities().Exports; exports != nil {
		return exports.DocumentKinds()
	}
	return nil
}

// ExportsOf returns the export formats of a document; ok is false if it cannot
// be exported.
func ExportsOf(s Store, entry Entry) (kind DocumentKind, ok bool) {
	if entry.Kind != KindDocument {
		return DocumentKind{}, false
	}
	for _, kind := range DocumentKindsOf(s) {
		if kind.Kind == entry.Document {
			return kind, len(kind.Formats) > 0
		}
	}
	return DocumentKind{}, false
}

// ExportName is the name of a document's export: its own with the format's
// extension.
func ExportName(name, format string) string {
	if strings.HasSuffix(strings.ToLower(name), "."+strings.ToLower(format)) {
		return name
	}
	return name + "." + format
}

// Export reads a document, ErrUnsupported where the store cannot.
func Export(ctx context.Context, s Store, place Ref, revision, format string) (io.ReadCloser, error) {
	if exports := s.Capabilities().Exports; exports != nil {
		return exports.Export(ctx, place, revision, format)
	}
	return nil, Errorf(ErrUnsupported, "documents of this account cannot be exported")
}
