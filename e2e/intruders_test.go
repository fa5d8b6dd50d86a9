package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// TestTokensThatAreNotValid asks every operation with a token that is wrong, cut off, of
// another service or one from before, and with the cookie of a session that has ended.
func TestTokensThatAreNotValid(t *testing.T) {
	t.Parallel()
	h, other := start(t), start(t)
	before := h.token()
	cookie := h.cookie()
	if code, text, _ := h.send(http.MethodGet, "/api/v1/whoami", "", nil, "Cookie", cookie); code != http.StatusOK {
		t.Fatalf("the session that was begun: %d %s", code, text)
	}
	sessions, err := h.client().Sessions(t.Context())
	if err != nil || len(sessions) != 1 {
		t.Fatalf("%+v, %v", sessions, err)
	}
	h.must("token", "revoke", sessions[0].ID)
	revoked := strings.TrimSpace(h.must("token", "create", "reader"))
	h.must("token", "revoke", "reader")
	h.must("token", "rotate")
	wrong := map[string][2]string{
		"nonsense": {"nonsense", ""}, "cut off": {h.token()[:len(h.token())-1], ""}, "longer": {h.token() + "x", ""},
		"of another service": {other.token(), ""}, "from before": {before, ""}, "of a session that has ended": {"", cookie},
		"revoked": {revoked, ""},
	}
	kinds := slices.Sorted(maps.Keys(wrong))
	var group sync.WaitGroup
	for i, operation := range h.operations() { // at once: what fails is slowed down
		if signsIn(operation) {
			continue
		}
		group.Go(func() {
			what := kinds[i%len(kinds)]
			var body io.Reader
			if operation[0] != http.MethodGet && operation[0] != http.MethodDelete {
				body = strings.NewReader("{}")
			}
			header := []string{}
			if cookie := wrong[what][1]; cookie != "" {
				header = []string{"Cookie", cookie, "Origin", "http://" + h.listen}
			}
			code, text, _ := h.send(operation[0], operation[1], wrong[what][0], body, header...)
			if code != http.StatusUnauthorized && code != http.StatusTooManyRequests {
				t.Errorf("%s %s with a token that is %s: %d %.100s", operation[0], operation[1], what, code, text)
			}
		})
	}
	group.Wait()
}

// cookie is that of a new session, which a one-time link began.
func (h *heron) cookie() string {
	h.t.Helper()
	link, err := h.client().SigninLink(h.t.Context())
	if err != nil {
		h.t.Fatal(err)
	}
	_, secret, _ := strings.Cut(link.URL, "#")
	code, text, header := h.send(http.MethodPost, "/api/v1/session", "", strings.NewReader(`{"token":"`+secret+`"}`))
	if code != http.StatusNoContent {
		h.t.Fatalf("%d %s", code, text)
	}
	if code, text, _ := h.send(http.MethodPost, "/api/v1/session", "",
		strings.NewReader(`{"token":"`+secret+`"}`)); code != http.StatusUnauthorized {
		h.t.Errorf("a one-time link was used twice: %d %s", code, text)
	}
	cookie, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	return cookie
}

// TestFormsFromElsewhere sends what a page elsewhere can have a browser send with its
// cookie: nothing of it is done.
func TestFormsFromElsewhere(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkFolder("desk", t.TempDir())
	cookie := h.cookie()
	const folder = `{"address":"/desk/made"}`
	for what, header := range map[string][]string{
		"a form of text":      {"Content-Type", "text/plain"},
		"a form of fields":    {"Content-Type", "application/x-www-form-urlencoded"},
		"a form of parts":     {"Content-Type", "multipart/form-data; boundary=x"},
		"a page elsewhere":    {"Sec-Fetch-Site", "cross-site"},
		"another origin":      {"Origin", "http://elsewhere.example"},
		"a page of this site": {"Origin", "http://" + strings.Replace(h.listen, "127.0.0.1", "localhost", 1)},
	} {
		code, text, _ := h.send(http.MethodPost, "/api/v1/folders", "", strings.NewReader(folder),
			append([]string{"Cookie", cookie}, header...)...)
		if code < 400 || code >= 500 {
			t.Errorf("%s: %d %s", what, code, text)
		}
	}
	for _, operation := range h.operations() {
		if operation[0] == http.MethodGet {
			continue
		}
		if code, text, _ := h.send(operation[0], operation[1], "", strings.NewReader("{}"), "Cookie", cookie, "Sec-Fetch-Site", "cross-site",
			"Origin", "http://elsewhere.example"); code != http.StatusForbidden {
			t.Errorf("%s %s from a page elsewhere: %d %.100s", operation[0], operation[1], code, text)
		}
	}
	if r := h.run("", "stat", "/desk/made"); r.code == 0 {
		t.Error("a form from elsewhere made a folder")
	}
}

// TestAddressesThatLeadOut asks for what is beside an account by every way of writing it.
func TestAddressesThatLeadOut(t *testing.T) {
	t.Parallel()
	h := start(t)
	top := t.TempDir()
	inside := filepath.Join(top, "inside")
	writeFile(t, "kept", inside, "folder", "kept.txt")
	writeFile(t, "secret beside", top, "beside.txt")
	if err := os.Symlink(top, filepath.Join(inside, "out")); err != nil {
		t.Fatal(err)
	}
	h.linkFolder("desk", inside)
	before := filesIn(t, top)
	for _, address := range []string{
		"/desk/../beside.txt", "/desk/folder/../../beside.txt", "/desk/%2e%2e/beside.txt", "/desk/..%2Fbeside.txt",
		"/desk/folder/..%2F..%2Fbeside.txt",
		"/desk/out/beside.txt", "/desk/out", "/../desk/../beside.txt", "/desk/\x00/../beside.txt", "/desk/folder\x00", "/desk/./../beside.txt",
		"/desk//../beside.txt", `/desk/..\beside.txt`, "/desk/" + top + "/beside.txt", "/desk/%00", "/proc/self/environ",
		"/desk/%252e%252e/beside.txt",
	} {
		query := url.Values{"address": {address}}.Encode()
		for _, path := range []string{"/api/v1/entries?", "/api/v1/entry?", "/api/v1/content?", "/api/v1/archive?",
			"/api/v1/comparison?with=/desk&"} {
			if code, text, _ := h.send(http.MethodGet, path+query, h.token(), nil); strings.Contains(text, "secret beside") || code >= 500 {
				t.Errorf("GET %s of %q: %d %.200s", path, address, code, text)
			}
		}
		h.send(http.MethodPut, "/api/v1/content?"+query, h.token(), strings.NewReader("overwritten"), "If-None-Match", "*")
		quoted, _ := json.Marshal(address)
		for path, body := range map[string]string{
			"/api/v1/moves": `{"from":%s,"to":"/desk/stolen"}`, "/api/v1/removals": `{"addresses":[%s],"for_good":true}`,
			"/api/v1/copies": `{"from":[%s],"to":"/desk/stolen"}`,
			"/api/v1/links":  `{"provider":"folder","name":"out","start":%s,"options":{"path":"` + inside + `"}}`,
		} {
			if code, text, _ := h.send(http.MethodPost, path, h.token(), strings.NewReader(fmt.Sprintf(body, quoted))); code >= 500 {
				t.Errorf("POST %s of %q: %d %.200s", path, address, code, text)
			}
		}
	}
	after := filesIn(t, top)
	for name, sum := range before {
		if strings.HasPrefix(name, "beside") && after[name] != sum {
			t.Errorf("%s was changed or removed from an account beside it", name)
		}
	}
	for name := range after {
		if _, there := before[name]; !there && !strings.HasPrefix(name, "inside/") {
			t.Errorf("%s was written beside the account", name)
		}
	}
}

// filesIn are the files of a folder and below, with what is in them. Links are left out.
func filesIn(t *testing.T, top string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(top, func(path string, entry os.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(path)
		all[strings.TrimPrefix(path, top+"/")] = string(text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// TestNamesThatEscape has files whose names are paths elsewhere, ends of lines, markup and
// sequences for a terminal: in archives, headers, lists and reports they are names.
func TestNamesThatEscape(t *testing.T) {
	t.Parallel()
	h := start(t)
	from, to := t.TempDir(), t.TempDir()
	names := []string{`..\..\evil.txt`, `C:\evil.txt`, "two\r\nX-Evil: yes", `quote".txt`, "\x1b[2Jcleared", "<img src=x onerror=alert(1)>",
		"=HYPERLINK(1)", "\u202etxt.exe", "..%2f..%2fevil"}
	for _, name := range names {
		writeFile(t, "content", from, "tree", name)
	}
	h.linkFolder("desk", from)
	h.linkFolder("archive", to)
	_, text, _ := h.send(http.MethodGet, "/api/v1/archive?address=/desk/tree", h.token(), nil)
	archive, err := zip.NewReader(bytes.NewReader([]byte(text)), int64(len(text)))
	if err != nil {
		t.Fatal(err)
	}
	drive := regexp.MustCompile(`(^|/)[A-Za-z]:`)
	for _, file := range archive.File {
		if strings.Contains(file.Name, `\`) || strings.ContainsAny(file.Name, "\r\n\x1b") || strings.HasPrefix(file.Name, "/") ||
			drive.MatchString(file.Name) {
			t.Errorf("the archive holds %q", file.Name)
		}
		for _, step := range strings.Split(file.Name, "/") {
			if step == ".." {
				t.Errorf("the archive holds %q", file.Name)
			}
		}
	}
	fetched := 0
	for entry, err := range h.client().List(t.Context(), "/desk/tree") {
		if err != nil {
			t.Fatal(err)
		}
		code, _, header := h.send(http.MethodGet, "/api/v1/content?"+url.Values{"address": {entry.Address}, "download": {"1"}}.Encode(),
			h.token(), nil)
		if code != http.StatusOK || header.Get("X-Evil") != "" || !strings.HasPrefix(header.Get("Content-Disposition"), "attachment") {
			t.Errorf("%q is fetched as %d, %q", entry.Name, code, header.Get("Content-Disposition"))
		}
		fetched++
	}
	if fetched != len(names) {
		t.Errorf("%d of %d names are listed", fetched, len(names))
	}
	started := h.copy("/desk/tree", "/archive")
	for what, out := range map[string]string{
		"ls": h.must("ls", "/desk/tree"), "the items": h.must("run", "items", started.ID), "the run": h.must("run", "show", started.ID),
	} {
		if strings.ContainsAny(out, "\x1b\r") || strings.Contains(out, "\nX-Evil") || strings.Contains(out, "\u202e") {
			t.Errorf("%s passes what moves the cursor: %q", what, out)
		}
	}
	var page bytes.Buffer
	if err := h.client().Report(t.Context(), started.ID, "html", &page); err != nil || strings.Contains(page.String(), "<img src=x") {
		t.Errorf("the report holds markup of a name, %v", err)
	}
}

// TestFilesThatGrow loads job files and definitions that are small and mean much: what is
// named again and again, and what is nested without end.
func TestFilesThatGrow(t *testing.T) {
	t.Parallel()
	h := start(t)
	var laughs strings.Builder
	laughs.WriteString("a0: &a0 [x,x,x,x,x,x,x,x,x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&laughs, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d,", i-1), 9), ","))
	}
	texts := map[string]string{
		"named again and again": laughs.String() + "jobs: *a11\nname: *a11\n",
		"nested":                strings.Repeat("[", 100_000),
		"nested keys":           strings.Repeat("{a: ", 20_000),
		"itself":                "jobs: &a\n  - *a\n",
	}
	before := h.resident()
	for what, text := range texts {
		body, _ := json.Marshal(map[string]string{"text": text})
		for _, path := range []string{"/api/v1/job-files", "/api/v1/definitions", "/api/v1/definitions/checks"} {
			begun := time.Now()
			code, answer, _ := h.send(http.MethodPost, path, h.token(), bytes.NewReader(body))
			if took := time.Since(begun); code < 400 || code >= 500 || took > 10*time.Second || len(answer) > 64<<10 {
				t.Errorf("%s at %s: %d after %v, %d bytes: %.200s", what, path, code, took, len(answer), answer)
			}
		}
	}
	if now := h.resident(); now > before+200<<20 {
		t.Errorf("the service holds %d MiB more", (now-before)>>20)
	}
}

// TestSecretsAreNowhere links accounts by secrets, and looks for these in the log, every
// answer, the data folder, what processes show of themselves, and a run's papers.
func TestSecretsAreNowhere(t *testing.T) {
	t.Parallel()
	h := start(t)
	objects, shell := servertest.StartObjectStore(t), servertest.StartOpenSSH(t)
	h.linkBucket("store", objects, objects.Bucket(t))
	h.link(shell.Password, "sftp", "shell", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", shell.Folder(t))
	from := t.TempDir()
	writeFile(t, "content", from, "tree", "a.txt")
	h.linkFolder("desk", from)
	run := h.copy("/desk/tree", "/store")
	h.copy("/desk/tree", "/shell")
	h.run("wrong", "account", "reauthorize", "shell", "--secret-file", "-")
	if h.run("", "copy", "/store/none", "/shell").code == 0 {
		t.Error("nothing was copied")
	}
	secrets := map[string]string{"of the store": objects.Secret, "of the shell": shell.Password, "of the owner": h.token()}
	look := func(where, text string) {
		for what, secret := range secrets {
			if strings.Contains(text, secret) {
				t.Errorf("%s holds the secret %s", where, what)
			}
		}
	}
	look("the log", h.log.String())
	for _, operation := range h.operations() {
		if operation[0] == http.MethodGet && operation[1] != "/api/v1/live" { // which has no end
			path := strings.ReplaceAll(strings.ReplaceAll(operation[1], "/runs/x", "/runs/"+run.ID), "/accounts/x", "/accounts/store")
			_, text, header := h.send(operation[0], path, h.token(), nil)
			look("GET "+path, text+fmt.Sprint(header))
		}
	}
	for _, format := range []string{"html", "csv", "json"} {
		var out bytes.Buffer
		if err := h.client().Report(t.Context(), run.ID, format, &out); err != nil {
			t.Error(err)
		}
		look("the report as "+format, out.String())
	}
	err := filepath.WalkDir(h.data, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || entry.Name() == "owner.token" {
			return err
		}
		data, err := os.ReadFile(path)
		if os.IsNotExist(err) {
			return nil
		}
		look(path, string(data))
		return err
	})
	if err != nil {
		t.Error(err)
	}
	for _, file := range []string{"cmdline", "environ"} {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", h.cmd.Process.Pid, file))
		if err != nil {
			t.Error(err)
		}
		look(file, string(data))
	}
	var accounts []contract.Account
	if err := json.Unmarshal([]byte(h.must("account", "list", "--json")), &accounts); err != nil &&
		!strings.Contains(err.Error(), "invalid character") {
		t.Error(err)
	}
}
