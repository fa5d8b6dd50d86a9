package view_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/view"
)

// office is a store with twins and documents in its start.
type office struct {
	*storetest.Memory
	entries []store.Entry
	texts   map[string]string // by id
	removed []string
}

func (o *office) Traits() store.Traits {
	traits := o.Memory.Traits()
	traits.Twins, traits.Order = true, store.OrderNone
	return traits
}

func (o *office) List(_ context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		for _, entry := range o.entries {
			if folder.Path == "" && !yield(entry, nil) {
				return
			}
		}
	}
}

func (o *office) Stat(_ context.Context, place store.Ref) (store.Entry, error) {
	for _, entry := range o.entries {
		if place.ID != "" && entry.ID == place.ID || place.ID == "" && entry.Name == place.Name {
			return entry, nil
		}
	}
	return store.Entry{}, store.Errorf(store.ErrNotFound, "there is no %s", place)
}

func (o *office) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	entry, err := o.Stat(ctx, reading.Place)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(strings.NewReader(o.texts[entry.ID])), nil
}

func (o *office) Remove(ctx context.Context, place store.Ref, _ string) (store.Removal, error) {
	entry, err := o.Stat(ctx, place)
	o.removed = append(o.removed, entry.ID)
	return store.RemovedFinally, err
}

func (o *office) Capabilities() store.Capabilities {
	c := o.Memory.Capabilities()
	c.Exports = o
	return c
}

func (o *office) DocumentKinds() []store.DocumentKind {
	return []store.DocumentKind{
		{Kind: "letter", Class: "text", Formats: []store.Format{{Name: "odt"}, {Name: "pdf"}}},
		{Kind: "table", Class: "sheet", Formats: []store.Format{{Name: "ods"}}},
	}
}

func (o *office) Export(ctx context.Context, place store.Ref, revision, format string) (io.ReadCloser, error) {
	entry, err := o.Stat(ctx, place)
	if err != nil {
		return nil, err
	}
	if revision != "" && revision != entry.Revision {
		return nil, store.Errorf(store.ErrChanged, "another revision")
	}
	return io.NopCloser(strings.NewReader(o.texts[entry.ID] + " as " + format)), nil
}

func newOffice() *office {
	file := func(id, name string) store.Entry {
		return store.Entry{ID: id, Name: name, Kind: store.KindFile, Size: 1, Revision: "r" + id}
	}
	document := func(id, name, kind string) store.Entry {
		return store.Entry{ID: id, Name: name, Kind: store.KindDocument, Size: -1, Document: kind, Revision: "r" + id}
	}
	o := &office{Memory: storetest.NewMemory(), texts: map[string]string{}, entries: []store.Entry{
		file("7", "map.png"), document("3", "Plan", "letter"), file("12", "map.png"), file("5", "map.png"), document("4", "Levels", "table"),
		document("6", "Sketch", "drawing"), {ID: "8", Name: "map.png", Kind: store.KindFolder}, file("9", "Plan.pdf"),
		document("10", "Plan", "letter"),
	}}
	for _, entry := range o.entries {
		o.texts[entry.ID] = "text " + entry.ID
	}
	return o
}

func TestAsFiles(t *testing.T) {
	for _, c := range []struct {
		choice view.ExportFormats
		want   []string
	}{
		{nil, []string{"file Levels.ods", "file Plan (10).odt", "file Plan.odt", "file Plan.pdf", "document Sketch", "file map (12).png",
			"file map (7).png", "file map.png", "folder map.png"}},
		{view.ExportFormats{"text": {"pdf", "odt"}, "sheet": {}}, []string{
			"document Levels", "file Plan (10).odt", "file Plan (10).pdf", "file Plan (9).pdf", "file Plan.odt", "file Plan.pdf", "document Sketch",
			"file map (12).png", "file map (7).png", "file map.png", "folder map.png",
		}},
	} {
		o := newOffice()
		s := view.Exports(o, c.choice)
		if traits := s.Traits(); traits.Order != store.OrderByKey || traits.Twins {
			t.Errorf("%+v", traits)
		}
		var got []string
		for entry, err := range s.List(t.Context(), store.Folder{}) {
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, fmt.Sprint(entry.Kind, " ", entry.Name))
			if entry.Kind != store.KindFile {
				continue
			}
			place := entry.Ref(store.Folder{})
			body, err := s.Open(t.Context(), store.Reading{Place: place, Revision: entry.Revision})
			if err != nil {
				t.Errorf("%s: %v", entry.Name, err)
				continue
			}
			data, _ := io.ReadAll(body)
			id, _, _ := strings.Cut(entry.ID, "#")
			want := "text " + id
			if format := view.ExportedAs(entry); format != "" {
				want += " as " + format
			}
			if string(data) != want {
				t.Errorf("%s holds %q, want %q", entry.Name, data, want)
			}
			if strings.Contains(entry.Name, "(") { // a name of the view's own leads there too
				named, err := s.Open(t.Context(), store.Reading{Place: store.At(entry.Name).As(store.KindFile)})
				if err != nil {
					t.Errorf("%s by its name: %v", entry.Name, err)
					continue
				}
				if data, _ := io.ReadAll(named); string(data) != want {
					t.Errorf("%s by its name holds %q, want %q", entry.Name, data, want)
				}
			}
			if again, err := s.Stat(t.Context(), place); err != nil || again.Kind != store.KindFile || again.Revision != entry.Revision {
				t.Errorf("stat of %s: %+v, %v", entry.Name, again, err)
			}
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%v lists %q\nwant %q", c.choice, got, c.want)
		}
	}
}

func TestAsFilesByName(t *testing.T) {
	o := newOffice()
	s := view.Exports(o, nil)
	entry, err := s.Stat(t.Context(), store.At("Levels.ods"))
	if err != nil || entry.Kind != store.KindFile || entry.Size != -1 || view.ExportedAs(entry) != "ods" {
		t.Errorf("an export by its name: %+v, %v", entry, err)
	}
	for _, name := range []string{"Levels.pdf", "Nothing.odt", "Levels.", "Sketch.odt"} {
		if _, err := s.Stat(t.Context(), store.At(name)); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, reading := range []store.Reading{{Place: store.At("Levels.ods"), Offset: 1}, {Place: store.At("Levels.ods"), Length: 1}} {
		if _, err := s.Open(t.Context(), reading); !errors.Is(err, store.ErrUnsupported) {
			t.Errorf("a range of an export: %v", err)
		}
	}
	if _, err := s.Open(t.Context(), store.Reading{Place: store.At("Levels.ods"), Revision: "older"}); !errors.Is(err, store.ErrChanged) {
		t.Errorf("an export at another revision: %v", err)
	}
	if _, err := s.Remove(t.Context(), store.At("Levels.ods"), ""); !errors.Is(err, store.ErrRefused) || len(o.removed) > 0 {
		t.Errorf("a document was removed for its export: %v, %v", err, o.removed)
	}
	if _, err := s.Remove(t.Context(), store.At("Plan.pdf"), ""); err != nil || !slices.Equal(o.removed, []string{"9"}) {
		t.Errorf("a file: %v, %v", err, o.removed)
	}
	plain := storetest.NewMemory()
	if view.Exports(plain, nil) != store.Store(plain) {
		t.Error("a store without twins and documents is given another form")
	}
	for name, want := range map[string]string{"Plan": "Plan.odt", "Plan.odt": "Plan.odt", "Plan.ODT": "Plan.ODT", "a.b": "a.b.odt"} {
		if got := store.ExportName(name, "odt"); got != want {
			t.Errorf("%s is exported as %s, want %s", name, got, want)
		}
	}
	entry, _ = o.Stat(t.Context(), store.At("Levels"))
	if _, ok := store.ExportsOf(plain, entry); ok {
		t.Error("a store without exports exports")
	}
	readOnly := view.ReadOnly(o, "desk")
	if kind, ok := store.ExportsOf(readOnly, entry); !ok || kind.Class != "sheet" {
		t.Errorf("a read-only account exports: %+v, %v", kind, ok)
	}
	if body, err := store.Export(t.Context(), readOnly, store.At("Levels"), "", "ods"); err != nil {
		t.Error(err)
	} else if data, _ := io.ReadAll(body); string(data) != "text 4 as ods" {
		t.Errorf("%q", data)
	}
}
