package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/servertest"
)

// noted returns the tags of everything below a folder, by address.
func (h *heron) noted(in string) map[string]string {
	h.t.Helper()
	found := map[string]string{}
	for one, err := range h.client().Annotated(h.t.Context(), in, "") {
		if err != nil {
			h.t.Fatal(err)
		}
		found[one.Address] = strings.Join(one.Tags, ",")
		for _, comment := range one.Comments {
			found[one.Address] += "|" + comment.By + ": " + comment.Text
		}
	}
	return found
}

func (h *heron) holdsNotes(what, in string, want map[string]string) {
	h.t.Helper()
	if got := h.noted(in); fmt.Sprint(got) != fmt.Sprint(want) {
		h.t.Errorf("%s: noted is %v, want %v", what, got, want)
	}
}

// TestTagsAndComments notes things about files by commands, which follow moves, are found,
// exported and imported elsewhere.
func TestTagsAndComments(t *testing.T) {
	t.Parallel()
	h := startSearching(t)
	desk := t.TempDir()
	for _, name := range []string{"plan.txt", "weir 1.txt", "weir 2.txt", "old.txt"} {
		writeFile(t, name, desk, "Office", name)
	}
	h.linkFolder("desk", desk)
	h.must("tag", "add", "To check,2026", "/desk/Office/plan.txt", "/desk/Office/weir 1.txt")
	h.must("tag", "add", "2026", "/desk/Office")
	h.must("comment", "add", "/desk/Office/plan.txt", "As agreed.\nWith the office.")
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{1, "does not exist", []string{"tag", "add", "x", "/desk/Office/none.txt"}},
		{2, "Use letters", []string{"tag", "add", "a/b", "/desk/Office/plan.txt"}},
		{1, "whole account", []string{"tag", "add", "x", "/desk"}},
		{1, "root of all", []string{"comment", "add", "/", "x"}},
		{2, "is empty", []string{"comment", "add", "/desk/Office/plan.txt", "  "}},
		{2, "takes a tag", []string{"tag", "add", "x"}},
		{1, "no comment 99", []string{"comment", "delete", "99", "--yes"}},
		{2, "not the number", []string{"comment", "delete", "x"}},
	} {
		h.says("", c.code, c.want, c.args...)
	}
	if out := h.must("ls", "/desk/Office"); !strings.Contains(out, "plan.txt  [2026] [To check]  1 comment") {
		t.Errorf("the listing is\n%s", out)
	}
	if out := h.must("tag", "list"); !strings.Contains(out, "2026") || !strings.Contains(out, "To check") {
		t.Errorf("the tags are\n%s", out)
	}
	h.must("mv", "/desk/Office/plan.txt", "/desk/plan of 2026.txt")
	if err := os.Rename(filepath.Join(desk, "Office", "weir 1.txt"), filepath.Join(desk, "weir one.txt")); err != nil {
		t.Fatal(err)
	}
	h.must("ls", "/desk", "--fresh") // what was renamed by others is found by its identity
	h.must("mkdir", "/desk/New")     // and the folder is listed again for the search
	want := map[string]string{"/desk/Office": "2026", "/desk/plan of 2026.txt": "2026,To check|owner: As agreed.\nWith the office.",
		"/desk/weir one.txt": "2026,To check"}
	h.holdsNotes("after moves", "", want)

	h.finds(client.Searching{Tags: []string{"to check"}}, "/desk/plan of 2026.txt", "/desk/weir one.txt")
	h.finds(client.Searching{Query: "weir", Tags: []string{"2026", "TO CHECK"}}, "/desk/weir one.txt")
	h.finds(client.Searching{Tags: []string{"2026"}, Kind: "folder"}, "/desk/Office")
	h.finds(client.Searching{Tags: []string{"nowhere"}})

	file := filepath.Join(t.TempDir(), "notes.json")
	h.must("tag", "export", "--file", file)
	h.says("", 1, "exists", "tag", "export", "--file", file)
	other := start(t)
	elsewhere := t.TempDir()
	writeFile(t, "x", elsewhere, "plan of 2026.txt")
	writeFile(t, "x", elsewhere, "Office", "x")
	other.linkFolder("desk", elsewhere)
	out := other.says("", 1, "1 entry could not be imported", "tag", "import", file)
	if !strings.Contains(out.out, "/desk/weir one.txt") {
		t.Errorf("what was not imported is not named: %s", out.out)
	}
	other.says("", 1, "0 tags and 0 comments are new", "tag", "import", file)
	delete(want, "/desk/weir one.txt")
	other.holdsNotes("imported", "", want)
	for text, wrong := range map[string]string{"": "does not begin", "{}": "no entries", `{"format":"x","entries":[]}`: "format is not",
		`{"entries":[]}`: "not said before", `{"format":"heron-annotations","entries":[{"address":1}]}`: "not an export"} {
		writeFile(t, text, file)
		other.says("", 2, wrong, "tag", "import", file)
	}
	h.must("tag", "remove", "2026", "/desk/Office", "/desk/weir one.txt")
	h.must("rm", "/desk/plan of 2026.txt", "--yes")
	if out := h.must("tag", "list", "/desk"); !strings.Contains(out, "missing since") || strings.Contains(out, "/desk/Office") {
		t.Errorf("what vanished is not said to:\n%s", out)
	}
}

// TestNotesFollowDrives has tags follow what was moved at the provider itself, where files
// are known by their ids, once the folder is listed again.
func TestNotesFollowDrives(t *testing.T) {
	t.Parallel()
	h := startSearching(t)
	c := clouds(t)
	h.linkDrives(c)
	for _, name := range []string{"plan.txt", "levels.csv"} {
		if err := c.Sedge.Put([]string{"Weirs", "Tolle"}, name, []byte(name), time.Unix(1700000000, 0)); err != nil {
			t.Fatal(err)
		}
	}
	h.finds(client.Searching{Query: "levels"}, "/field-drive/Weirs/Tolle/levels.csv")
	h.must("tag", "add", "kept", "/field-drive/Weirs/Tolle/plan.txt", "/field-drive/Weirs/Tolle")
	other := start(t)
	other.linkDrives(c)
	other.must("mv", "/field-drive/Weirs/Tolle", "/field-drive/Weirs/Moved")
	h.must("mkdir", "/field-drive/Weirs/New") // the folder is listed at once, not with the next page of the feed
	want := map[string]string{"/field-drive/Weirs/Moved": "kept", "/field-drive/Weirs/Moved/plan.txt": "kept"}
	for deadline := time.Now().Add(longestWait); fmt.Sprint(h.noted("")) != fmt.Sprint(want); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("noted is %v, want %v", h.noted(""), want)
		}
	}
}

// TestPeopleNote has people note things about what they see, and find no other.
func TestPeopleNote(t *testing.T) {
	t.Parallel()
	h := startSearching(t)
	desk := t.TempDir()
	writeFile(t, "x", desk, "Reports", "a.txt")
	writeFile(t, "x", desk, "Secret", "b.txt")
	h.linkFolder("desk", desk)
	h.addUser("ann", "operator", contract.Grant{Address: "/desk/Reports", Role: "operator"})
	h.addUser("ben", "viewer", contract.Grant{Address: "/desk", Role: "viewer"})
	ann, ben, owner := h.signIn("ann"), h.signIn("ben"), someone{name: "owner", token: h.token()}
	call := func(who someone, status int, method, path, body string) string {
		t.Helper()
		got, text := h.as(who, method, "/api/v1"+path, body)
		if got != status {
			t.Errorf("%s: %s %s %s: %d %s, want %d", who.name, method, path, body, got, text, status)
		}
		return text
	}
	call(ann, 200, "POST", "/tags", `{"addresses":["/desk/Reports/a.txt"],"add":["mine"]}`)
	call(owner, 200, "POST", "/tags", `{"addresses":["/desk/Secret/b.txt","/desk/Reports/a.txt"],"add":["hush"]}`)
	call(ann, 404, "POST", "/tags", `{"addresses":["/desk/Secret/b.txt"],"add":["x"]}`)
	call(ben, 403, "POST", "/tags", `{"addresses":["/desk/Reports/a.txt"],"add":["x"]}`)
	var comment contract.Comment
	if err := json.Unmarshal([]byte(call(ben, 201, "POST", "/comments", `{"address":"/desk/Secret/b.txt","text":"seen"}`)), &comment); err != nil {
		t.Fatal(err)
	}
	call(ann, 404, "POST", "/comments", `{"address":"/desk/Secret/b.txt","text":"x"}`)
	path := fmt.Sprint("/comments/", comment.ID)
	call(ann, 404, "PUT", path, `{"text":"x"}`)
	call(owner, 409, "PUT", path, `{"text":"x"}`) // of its author alone
	call(ben, 204, "PUT", path, `{"text":"seen twice"}`)
	for _, one := range []struct {
		who  someone
		path string
		has  []string
		not  []string
	}{
		{ann, "/tags", []string{"mine", "hush"}, nil},
		{ann, "/annotated", []string{"/desk/Reports/a.txt"}, []string{"Secret", "seen"}},
		{ben, "/annotated", []string{"/desk/Secret/b.txt", "seen twice"}, nil},
		{ann, "/search?tag=hush", []string{"/desk/Reports/a.txt"}, []string{"Secret"}},
		{ben, "/search?tag=hush", []string{"/desk/Reports/a.txt", "/desk/Secret/b.txt"}, nil},
		{ann, "/annotated?in=/desk/Secret", nil, []string{"b.txt\",\"kind"}},
	} {
		_, text := h.as(one.who, "GET", "/api/v1"+one.path, "")
		for _, word := range one.has {
			if !strings.Contains(text, word) {
				t.Errorf("%s, %s: %s; want %s in it", one.who.name, one.path, text, word)
			}
		}
		for _, word := range one.not {
			if strings.Contains(text, word) {
				t.Errorf("%s, %s: %s; it tells %s", one.who.name, one.path, text, word)
			}
		}
	}
	if text := call(ann, 200, "GET", "/tags", ""); !strings.Contains(text, `{"tag":"hush","entries":1}`) {
		t.Errorf("tags count what is not seen: %s", text)
	}

	// A lock keeps others out, whoever they are, until it ends.
	call(ann, 200, "POST", "/locks", `{"addresses":["/desk/Reports"],"for":"2h","reason":"figures"}`)
	text := call(owner, 200, "POST", "/removals", `{"addresses":["/desk/Reports/a.txt"],"agreed":{"files":1,"folders":0,"others":0,"bytes":9}}`)
	if !strings.Contains(text, "locked by ann (figures)") || !strings.Contains(text, `"kept":1`) {
		t.Errorf("the refusal says %s", text)
	}
	call(owner, 423, "PUT", "/content?address=/desk/Reports/new.txt", "x")
	call(ann, 201, "PUT", "/content?address=/desk/Reports/new.txt", "x")
	call(ann, 200, "POST", "/moves", `{"from":["/desk/Reports/new.txt"],"to":"/desk/Reports","name":"newer.txt"}`)
	call(owner, 423, "POST", "/moves", `{"from":["/desk/Reports"],"to":"/desk","name":"Renamed"}`)
	call(owner, 423, "POST", "/locks", `{"addresses":["/desk/Reports/a.txt"]}`)
	call(ben, 403, "POST", "/unlocks", `{"addresses":["/desk/Reports"]}`)
	if text := call(ben, 200, "GET", "/entry?address=/desk/Reports", ""); !strings.Contains(text, `"lock":{"by":"ann"`) {
		t.Errorf("the lock is not shown: %s", text)
	}
	// Whose lock it was is gone: an owner ends it.
	call(owner, 204, "DELETE", "/users/ann", "")
	call(owner, 200, "POST", "/unlocks", `{"addresses":["/desk/Reports"]}`)
	call(owner, 404, "POST", "/unlocks", `{"addresses":["/desk/Reports"]}`)
	call(owner, 201, "PUT", "/content?address=/desk/Reports/new.txt", "x")
	for body, wrong := range map[string]string{`{"addresses":["/desk/Reports"],"for":"soon"}`: "not a time for a lock",
		`{"addresses":["/desk/Reports"],"for":"1y"}`:                                "90 days at most",
		`{"addresses":["/desk/Reports"],"until":"2020-01-01T00:00:00Z"}`:            "end at once",
		`{"addresses":["/desk/Reports"],"for":"1h","until":"2030-01-01T00:00:00Z"}`: "Give one"} {
		if status, text := h.as(owner, "POST", "/api/v1/locks", body); status < 400 || status >= 500 || !strings.Contains(text, wrong) {
			t.Errorf("%s: %d %s; want %q", body, status, text, wrong)
		}
	}
}

// TestLockedItems has runs of each kind skip a locked file, say so, and take it once the lock
// has ended: the next run, a retry, and a continuous job by itself.
func TestLockedItems(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	write := func(text string) {
		t.Helper()
		for _, name := range []string{"plan.txt", "free.txt", "gone.txt"} {
			writeFile(t, text+name, desk, name)
		}
	}
	read := func(name string) string {
		text, _ := os.ReadFile(filepath.Join(archive, "kept", name))
		return string(text)
	}
	write("first ")
	h.must("job", "create", "keep", "--type", "mirror", "--from", "/desk", "--to", "/archive/kept", "--safety-deletions", "none",
		"--safety-overwrites", "none")
	h.job("keep", 0)
	h.must("lock", "/archive/kept/plan.txt", "/archive/kept/gone.txt", "--for", "1h", "--reason", "being read")
	write("second ")
	if err := os.Remove(filepath.Join(desk, "gone.txt")); err != nil {
		t.Fatal(err)
	}
	run := h.job("keep", 1)
	items := h.must("run", "items", run.ID, "--state", "skipped", "--json")
	if run.State != "partial" || run.Cause != "locked" || run.Items.Skipped != 2 || strings.Count(items, `"cause":"locked"`) != 2 ||
		!strings.Contains(items, "is locked by owner (being read)") {
		t.Errorf("%+v\n%s", run, items)
	}
	if read("plan.txt") != "first plan.txt" || read("free.txt") != "second free.txt" || read("gone.txt") != "first gone.txt" {
		t.Errorf("%q, %q, %q", read("plan.txt"), read("free.txt"), read("gone.txt"))
	}
	h.must("unlock", "/archive/kept/plan.txt")
	h.says("", 1, "", "run", "retry", run.ID) // the other is still locked
	if read("plan.txt") != "second plan.txt" {
		t.Errorf("after a retry it is %q", read("plan.txt"))
	}
	h.must("unlock", "/archive/kept/gone.txt")
	h.job("keep", 0)
	if read("gone.txt") != "" {
		t.Error("a deletion was not made up for")
	}

	h.must("job", "edit", "keep", "--continuous")
	h.watching("keep")
	h.must("lock", "/archive/kept/plan.txt")
	writeFile(t, "third", desk, "plan.txt")
	writeFile(t, "third", desk, "free.txt")
	comesToHold(t, "third", archive, "kept", "free.txt")
	time.Sleep(300 * time.Millisecond) // the pass goes on to the end
	if read("plan.txt") != "second plan.txt" {
		t.Errorf("a continuous job wrote to what is locked: %q", read("plan.txt"))
	}
	h.must("unlock", "/archive/kept/plan.txt")
	comesToHold(t, "third", archive, "kept", "plan.txt")
}

// TestNotesAreCarried has a migration carry tags and comments over, and say so in its
// certificate; a copy carries them if it is asked to, and a move in any case.
func TestNotesAreCarried(t *testing.T) {
	t.Parallel()
	h := start(t)
	c := clouds(t)
	h.linkDrives(c)
	desk := t.TempDir()
	for _, name := range []string{"a:b.txt", "plan.txt", "sub/deep.txt", "gone.txt"} {
		writeFile(t, name, desk, "Project", name)
	}
	h.linkFolder("desk", desk)
	h.must("tag", "add", "kept", "/desk/Project/a:b.txt", "/desk/Project/sub", "/desk/Project/gone.txt")
	h.must("comment", "add", "/desk/Project/sub/deep.txt", "Deep.")
	h.must("job", "create", "move", "--type", "migrate", "--annotations", "carry", "--exclude", "gone.txt", "--from", "/desk/Project", "--to",
		"/field-drive/Moved")
	for range 3 {
		h.job("move", 0) // the survey, the first pass, a catch-up
	}
	final := h.job("move", 0)
	var paper struct{ Certificate contract.Certificate }
	if err := json.Unmarshal([]byte(h.must("run", "report", final.ID, "--certificate", "--format", "json")), &paper); err != nil {
		t.Fatal(err)
	}
	want := contract.CertifiedAnnotations{Entries: 3, Tags: 2, Comments: 1, Missing: 1}
	if got := paper.Certificate.Annotations; got == nil || *got != want {
		t.Errorf("the certificate has %+v, want %+v", got, want)
	}
	if page := h.must("run", "report", final.ID, "--certificate", "--format", "html"); !strings.Contains(page, "2 tags and 1 comment") {
		t.Error("the certificate's page does not tell of tags and comments")
	}
	notes := h.noted("/field-drive")
	if len(notes) != 3 || notes["/field-drive/Moved/sub"] != "kept" || notes["/field-drive/Moved/sub/deep.txt"] != "|owner: Deep." {
		t.Errorf("%v", notes)
	}

	h.must("copy", "/desk/Project", "/desk/Copy")
	h.holdsNotes("a copy that was not asked to", "/desk/Copy", map[string]string{})
	h.must("copy", "/desk/Project/sub", "/desk/Copy", "--annotations", "carry")
	h.holdsNotes("a copy that was", "/desk/Copy", map[string]string{"/desk/Copy/sub": "kept", "/desk/Copy/sub/deep.txt": "|owner: Deep."})
	h.must("tag", "add", "kept", "/desk/Project/plan.txt")
	h.must("mv", "/desk/Project/plan.txt", "/office-drive")
	for address, tags := range h.noted("/office-drive") {
		if tags != "kept" || address != "/office-drive/plan.txt" {
			t.Errorf("%s has %q", address, tags)
		}
	}
	if len(h.noted("/office-drive")) != 1 {
		t.Error("a move to another account left its tags behind")
	}
}

// TestLockAtServer has the lock of a file at a WebDAV server be one there: other clients of
// the server are refused too, who holds it works on, and it ends with ours.
func TestLockAtServer(t *testing.T) {
	t.Parallel()
	h := start(t)
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, _ := apache.Folder(t)
	h.linkApache("dav", apache, url)
	file := filepath.Join(t.TempDir(), "plan.txt")
	writeFile(t, "first", file)
	h.must("put", file, "/dav", "--yes")
	if out := h.must("lock", "/dav/plan.txt", "--for", "1h"); !strings.Contains(out, "at its server too") {
		t.Errorf("%s", out)
	}
	other := func() int {
		t.Helper()
		request, _ := http.NewRequestWithContext(t.Context(), http.MethodPut, url+"plan.txt", strings.NewReader("of another client"))
		request.SetBasicAuth(apache.User, apache.Password)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	if status := other(); status != http.StatusLocked {
		t.Errorf("another client may write: %d", status)
	}
	writeFile(t, "second", file)
	h.must("put", file, "/dav", "--yes")
	if out := h.must("cat", "/dav/plan.txt"); out != "second" {
		t.Errorf("it holds %q", out)
	}
	if status := other(); status != http.StatusLocked {
		t.Errorf("after its holder wrote, another client may write: %d", status)
	}
	h.must("unlock", "/dav/plan.txt")
	if status := other(); status >= 300 {
		t.Errorf("after it was unlocked: %d", status)
	}
	// A lock that another client holds keeps ours from being taken.
	request, _ := http.NewRequestWithContext(t.Context(), "LOCK", url+"plan.txt", strings.NewReader(`<D:lockinfo xmlns:D="DAV:"><D:lockscope>`+
		`<D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner>the second desk</D:owner></D:lockinfo>`))
	request.SetBasicAuth(apache.User, apache.Password)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	h.says("", 1, "the second desk", "lock", "/dav/plan.txt")
}
