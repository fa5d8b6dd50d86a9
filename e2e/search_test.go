package e2e

import (
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
)

// startSearching starts a service that keeps its search index by itself.
func startSearching(t *testing.T) *heron { return start(t, "--search-sweep", "24h") }

// found are the addresses that a search finds.
func (h *heron) found(asked client.Searching) (addresses []string) {
	h.t.Helper()
	results, err := h.client().Search(h.t.Context(), asked)
	if err != nil {
		h.t.Fatal(err)
	}
	for _, hit := range results.Hits {
		addresses = append(addresses, hit.Address)
	}
	slices.Sort(addresses)
	return addresses
}

// finds waits until a search finds what it is to find.
func (h *heron) finds(asked client.Searching, want ...string) {
	h.t.Helper()
	slices.Sort(want)
	for deadline := time.Now().Add(longestWait); ; time.Sleep(50 * time.Millisecond) {
		found := h.found(asked)
		if slices.Equal(found, want) {
			return
		}
		if time.Now().After(deadline) {
			h.t.Fatalf("%+v finds %q, want %q", asked, found, want)
		}
	}
}

// TestSearch finds files of several accounts by names and contents: by commands, for people
// with different grants, and as things change.
func TestSearch(t *testing.T) {
	t.Parallel()
	h := startSearching(t)
	c := clouds(t)
	h.linkDrives(c)
	desk, archive := t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	writeFile(t, "The river board grants a fish pass at Withy Weir.", desk, "Permits", "Withy.txt")
	writeFile(t, "<p>Permiso para el r&iacute;o T&oacute;lle</p>", desk, "Permits", "permiso.html")
	writeFile(t, "PK broken", desk, "Permits", "broken permit.docx")
	writeFile(t, "weir", archive, "hidden.md")
	c.Sedge.Document([]string{"Minutes"}, "text", "Meeting", "The permit was discussed.")
	h.finds(client.Searching{Query: "permit"}, "/desk/Permits", "/desk/Permits/broken permit.docx")
	for _, account := range []string{"desk", "field-drive", "archive"} {
		h.must("account", "edit", account, "--search", "contents")
	}
	h.finds(client.Searching{Query: "permit OR permiso"}, "/desk/Permits/broken permit.docx", "/desk/Permits/permiso.html",
		"/field-drive/Minutes/Meeting")
	h.finds(client.Searching{Query: "río tolle"}, "/desk/Permits/permiso.html")
	h.finds(client.Searching{Query: `"fish pass"`, In: []string{"/desk"}, Types: []string{"txt"}, Newer: "1y"}, "/desk/Permits/Withy.txt")
	h.finds(client.Searching{Query: `"fish pass"`, Smaller: "10"})

	out := h.must("search", "fish", "AND", "weir", "--in", "/desk")
	if !strings.Contains(out, "/desk/Permits/Withy.txt") || !strings.Contains(out, "grants a fish pass at Withy Weir") {
		t.Errorf("heron search prints\n%s", out)
	}
	h.says("", 2, "character 1: a word is missing before NOT", "search", "NOT weir")
	h.says("", 1, "There is no account", "search", "weir", "--in", "/nowhere")
	if out := h.must("search", "--state"); !strings.Contains(out, "contents") || !strings.Contains(out, "NOT READABLE") {
		t.Errorf("the state is\n%s", out)
	}
	if out := h.must("search", "--unread", "desk"); !strings.Contains(out, "/desk/Permits/broken permit.docx") || !strings.Contains(out,
		"damaged") {
		t.Errorf("what cannot be read is\n%s", out)
	}

	// What changes is found: by our own hand, by a run, by a feed.
	file := filepath.Join(t.TempDir(), "culvert.txt")
	writeFile(t, "An eel ladder.", file)
	h.must("put", file, "/desk/Permits")
	h.finds(client.Searching{Query: "eel"}, "/desk/Permits/culvert.txt")
	h.must("mv", "/desk/Permits/culvert.txt", "/desk/ladder.txt")
	h.finds(client.Searching{Query: "eel"}, "/desk/ladder.txt")
	h.must("copy", "/desk/ladder.txt", "/archive/copied")
	h.finds(client.Searching{Query: "eel"}, "/desk/ladder.txt", "/archive/copied/ladder.txt")
	h.must("rm", "/archive/copied", "--yes")
	h.finds(client.Searching{Query: "eel"}, "/desk/ladder.txt")
	c.Sedge.Document([]string{"Minutes"}, "text", "Another", "An eel was seen.")
	h.finds(client.Searching{Query: "eel"}, "/desk/ladder.txt", "/field-drive/Minutes/Another")

	// Somebody with a grant on one folder finds what is in it.
	h.addUser("surveyor", "viewer")
	if _, err := h.client().SetGrant(t.Context(), "surveyor", contract.Grant{Address: "/desk/Permits", Role: "viewer"}); err != nil {
		t.Fatal(err)
	}
	who := h.signIn("surveyor")
	status, text := h.as(who, "GET", "/api/v1/search?"+url.Values{"q": {"weir OR permit OR eel OR ladder OR hidden"}}.Encode(), "")
	if status != http.StatusOK || !strings.Contains(text, "/desk/Permits/Withy.txt") || strings.Contains(text, "ladder") ||
		strings.Contains(text, "archive") || strings.Contains(text, "Minutes") {
		t.Errorf("with a grant: %d %s", status, text)
	}
	if status, text := h.as(who, "GET", "/api/v1/search/accounts", ""); status != http.StatusOK || strings.Contains(text, "archive") {
		t.Errorf("the state with a grant: %d %s", status, text)
	}

	// An account that is suspended or unlinked is not found; the index comes back when it is lost.
	h.must("account", "suspend", "desk")
	h.finds(client.Searching{Query: "eel"}, "/field-drive/Minutes/Another")
	h.must("account", "resume", "desk")
	h.finds(client.Searching{Query: "eel"}, "/desk/ladder.txt", "/field-drive/Minutes/Another")
	h.end(terminate)
	for _, file := range []string{"search.db", "search.db-wal", "search.db-shm"} {
		_ = os.Remove(filepath.Join(h.data, file))
	}
	h.serve("--search-sweep", "24h")
	h.finds(client.Searching{Query: "eel"}, "/desk/ladder.txt", "/field-drive/Minutes/Another")
}

// TestConsoleSearch finds files in the console, from the command field on.
func TestConsoleSearch(t *testing.T) {
	t.Parallel()
	h := startSearching(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	writeFile(t, "Minutes of the board.\nThe fish pass at Withy Weir was opened in the spring, and eels were counted there.", desk,
		"Reports", "spring.txt")
	writeFile(t, "a", desk, "Reports", "fish counts 2026.csv")
	h.must("account", "edit", "desk", "--search", "contents")
	h.finds(client.Searching{Query: "fish"}, "/desk/Reports/spring.txt", "/desk/Reports/fish counts 2026.csv")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("desk")
	b.open("http://" + h.listen + "/search")
	b.shows("Not readable")
	b.look("search-empty")
	b.accessible("the search page")
	b.field("Words", "fish")
	b.click("Search")
	b.shows("2 hits")
	b.shows("was opened in the spring")
	b.look("search-hits")
	b.accessible("hits of a search")
	b.field("Words", "(fish")
	b.click("Search")
	b.shows("a parenthesis is not closed")
	b.open("http://" + h.listen + "/search?q=nothing+of+the+kind")
	b.shows("Nothing was found.")
	b.click("Overview")
	js[any](b, `document.querySelector('[role=combobox]').focus(), null`)
	b.keys("eels")
	b.shows("search names and contents")
	b.keys("\r")
	b.shows("1 hit")
}
