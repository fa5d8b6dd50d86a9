package preview

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"deftheron/core/store"
)

// TestText reads text in a child, and says of what cannot be read why.
func TestText(t *testing.T) {
	t.Parallel()
	m := newMaker(t, 64<<20)
	var bomb bytes.Buffer
	archive := zip.NewWriter(&bomb)
	w, err := archive.Create("content.xml")
	if err == nil {
		_, err = io.Copy(w, io.LimitReader(endless("<office:body>"), 300<<20))
	}
	if err = errors.Join(err, archive.Close()); err != nil {
		t.Fatal(err)
	}
	for name, one := range map[string]struct{ content, text, why string }{
		"plan.md":     {"# Weir\n\nFish pass", "# Weir\nFish pass", ""},
		"page.html":   {"<p>Fish &amp; eel</p>", "Fish & eel", ""},
		"long.txt":    {strings.Repeat("word ", 1<<20), "", ""},
		"bomb.odt":    {bomb.String(), "", "\x00"},
		"locked.docx": {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "", "encrypted"},
		"bad.pdf":     {"%PDF-1.4 nothing", "", "\x00"},
		"none.txt":    {"   ", "", "no text"},
	} {
		text, why, err := m.Text(t.Context(), name, int64(len(one.content)), of([]byte(one.content)))
		switch {
		case err != nil:
			t.Errorf("%s: %v", name, err)
		case one.why != "" && (text != "" || why == "" || one.why != "\x00" && !strings.Contains(why, one.why)):
			t.Errorf("%s: %.50q, why %q, want %q", name, text, why, one.why)
		case one.why == "" && why != "":
			t.Errorf("%s: why %q", name, why)
		case one.text != "" && text != one.text || len(text) > mostText:
			t.Errorf("%s: %d bytes, %.50q", name, len(text), text)
		}
	}
	if _, why, err := m.Text(t.Context(), "x.txt", MostRead+1, nil); err != nil || !strings.Contains(why, "larger") {
		t.Errorf("a large file: %q, %v", why, err)
	}
	gone := func(context.Context) (io.ReadCloser, error) { return nil, store.Errorf(store.ErrNotFound, "gone") }
	if _, _, err := m.Text(t.Context(), "x.txt", 1, gone); store.KindOf(err) != store.ErrNotFound {
		t.Errorf("a file that is gone: %v", err)
	}
}

// endless repeats a text.
type endless string

func (e endless) Read(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		n += copy(p[n:], e)
	}
	return n, nil
}
