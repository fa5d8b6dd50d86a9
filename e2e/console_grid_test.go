package e2e

import (
	"bytes"
	"fmt"
	"image"
	_ "image/jpeg" // of previews
	_ "image/png"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"deftheron/contract"
)

// TestConsoleGrid shows a folder of pictures, pages and films as a grid, with some that are
// damaged or too large, works in it by keyboard, and finds a folder in the picker.
func TestConsoleGrid(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, scenario := t.TempDir(), t.TempDir()
	demoData(t, scenario)
	pages, err := filepath.Glob(filepath.Join(scenario, "desk", "Office", "Permits", "*.pdf"))
	if err != nil || len(pages) == 0 {
		t.Fatal(pages, err)
	}
	page, err := os.ReadFile(pages[0])
	if err != nil {
		t.Fatal(err)
	}
	at := filepath.Join(desk, "Media")
	writeFile(t, string(page), at, "permit.pdf")
	pictureOf(t, filepath.Join(at, "bank.png"))
	writeFile(t, "no picture", at, "damaged.png")
	writeFile(t, "\x89PNG\r\n\x1a\n\x00\x00\x00\x0dIHDR\x00\x03\x00\x00\x00\x03\x00\x00\x08\x06\x00\x00\x00", at, "huge.png")
	odd := "\u05de\u05d9\u05dd \u202e" + strings.Repeat("x", 230) + "\n.txt"
	writeFile(t, "odd", at, odd)
	writeFile(t, "deep", desk, "Surveys", "2026", "Upper gauge", "level.csv")
	if said, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=size=320x180:rate=10:duration=1", "-c:v", "mpeg4",
		filepath.Join(at, "weir.mp4")).CombinedOutput(); err != nil {
		t.Fatalf("%v, %s", err, said)
	}
	h.linkFolder("desk", desk)

	t.Log("previews, by the API")
	token := h.client().Token
	get := func(query string, headers ...string) *http.Response {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+h.listen+contract.Root+"/preview?"+query, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+token)
		for i := 0; i+1 < len(headers); i += 2 {
			request.Header.Set(headers[i], headers[i+1])
		}
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		return answer
	}
	for name, longer := range map[string]int{"bank.png": 40, "permit.pdf": 256, "weir.mp4": 256} {
		answer := get(url.Values{"address": {"/desk/Media/" + name}}.Encode())
		data, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		config, _, err := image.DecodeConfig(bytes.NewReader(data))
		if answer.StatusCode != http.StatusOK || err != nil || max(config.Width, config.Height) != longer {
			t.Errorf("the preview of %s: %s, %d x %d, %v; want %d pixels", name, answer.Status, config.Width, config.Height, err, longer)
		}
		if kind := answer.Header.Get("Content-Type"); !strings.HasPrefix(kind, "image/") || answer.Header.Get("ETag") == "" {
			t.Errorf("%s has the type %q and the tag %q", name, kind, answer.Header.Get("ETag"))
		}
		if again := get(url.Values{"address": {"/desk/Media/" + name}}.Encode(), "If-None-Match",
			answer.Header.Get("ETag")); again.StatusCode != http.StatusNotModified {
			t.Errorf("asked again for what did not change: %s", again.Status)
		}
	}
	for query, want := range map[string]int{
		"address=/desk/Media/damaged.png": http.StatusNotFound, "address=/desk/Media/huge.png": http.StatusNotFound,
		"address=/desk/Media/none.png": http.StatusNotFound, "address=/desk/Media": http.StatusConflict,
		"address=/desk/Media/bank.png&size=enormous": http.StatusConflict,
	} {
		if answer := get(query); answer.StatusCode != want {
			t.Errorf("%s: %s, want %d", query, answer.Status, want)
		}
	}

	t.Log("the grid")
	b := openBrowser(t)
	b.watchPolicy()
	b.open(h.signin)
	b.shows("Needs a decision")
	b.open("http://" + h.listen + "/files/desk/Media")
	b.click("Grid")
	for _, name := range []string{"bank.png", "permit.pdf", "weir.mp4"} {
		b.until(fmt.Sprintf("document.querySelector('[role=row][data-name=%s] img')?.naturalWidth > 0", quote(name)))
	}
	for _, name := range []string{"damaged.png", "huge.png"} {
		b.until(fmt.Sprintf("document.querySelector('[role=row][data-name=%[1]s]') && !document.querySelector('[role=row][data-name=%[1]s] img')",
			quote(name)))
	}
	b.accessible("the grid")
	b.focus("[role=grid]")
	b.keys(kb.Home)
	b.keys(kb.ArrowRight)
	b.keys(" ")
	b.until(`document.querySelectorAll('[role=row][aria-selected=true]').length === 1`)
	b.keys(kb.ArrowRight)
	b.keys(kb.F2)
	b.until(`document.activeElement?.matches('input[aria-label="New name"]')`)
	b.keys(kb.Escape)
	b.until(`document.activeElement?.matches('[role=grid]')`)
	b.keys(kb.End)
	b.keys(" ")
	b.until(`document.querySelectorAll('[role=row][aria-selected=true]').length === 2`)
	b.keys(kb.Escape)
	b.click("Choose permit.pdf")
	b.until(`document.querySelector('aside img')?.naturalWidth > 0`)
	b.accessible("the details with a preview")
	b.keptToPolicy()
	js[any](b, "location.reload(), null")
	b.until(`document.querySelector('[role=row][data-name="bank.png"] img')?.naturalWidth > 0`) // the view is remembered
	b.click("List")
	b.until(`!document.querySelector('[role=row] img')`)

	t.Log("the picker, by a name")
	b.click("Choose bank.png")
	b.click("Copy to…")
	b.click("Choose: Into the folder")
	b.shows("Choose this folder")
	b.until("[...document.querySelectorAll('[role=dialog] [role=treeitem]')].length >= 1")
	b.focus("[role=dialog] [role=tree]")
	b.keys(kb.Home)
	b.keys(kb.Enter)
	b.click("Find a folder by name")
	b.keys("upper")
	b.click("/desk/Surveys/2026/Upper gauge")
	b.accessible("folders found in the picker")
	b.click("Choose this folder")
	b.until(`[...document.querySelectorAll('[role=dialog] input')].some((e) => e.value.startsWith('/desk/Surveys/2026/Upper gauge'))`)
}
