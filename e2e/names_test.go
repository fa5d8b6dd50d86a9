package e2e

import (
	"archive/zip"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"deftheron/contract"
	"deftheron/servertest"
)

// TestNamesThatAreNotUTF8 looks at, fetches, moves, copies and removes entries whose
// names are not UTF-8, by the addresses that listings give.
func TestNamesThatAreNotUTF8(t *testing.T) {
	t.Parallel()
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	remote := shell.Folder(t)
	h.link(shell.Password, "sftp", "server", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", remote)
	for account, root := range map[string]string{"/desk": desk, "/server": remote} {
		files := map[string]string{"in/bad\xff\xfe.txt": "1", "in/bad\xfe\xfe.txt": "2", "in/dir\xe9/in\xe9 100%.txt": "3", "in/good é.txt": "4"}
		for name, content := range files {
			path := filepath.Join(root, name)
			if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(content), 0o666); err != nil {
				t.Fatal(err)
			}
		}
		local := t.TempDir()
		h.must("get", account+"/in", local)
		same(t, account+" fetched", digest(t, local), digest(t, root))

		archive, err := zip.NewReader(readerOf(t, h, account+"/in"))
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for _, file := range archive.File {
			seen[file.Name] = true
		}
		for name := range files {
			if !seen[name] {
				t.Errorf("%s: the archive holds %v, without %q", account, seen, name)
			}
		}

		if run := h.copy(account+"/in", account+"/copied"); run.Items.Done != 4 {
			t.Errorf("%s: copied %+v", account, run.Items)
		}
		var odd []contract.Entry
		for entry, err := range h.client().List(t.Context(), account+"/in") {
			if err != nil {
				t.Fatal(err)
			}
			if !utf8.ValidString(entry.Name) {
				odd = append(odd, entry)
			}
		}
		if len(odd) != 3 {
			t.Fatalf("%s: %+v; want three of such names", account, odd)
		}
		for i, entry := range odd {
			if out := h.must("stat", entry.Address); !strings.Contains(out, entry.Kind) {
				t.Errorf("stat %s: %s", entry.Address, out)
			}
			if entry.Kind == "folder" {
				if out := h.must("ls", entry.Address); !strings.Contains(out, "100%25.txt") {
					t.Errorf("ls %s: %s", entry.Address, out)
				}
			}
			if i == 0 {
				h.must("mv", entry.Address, account+"/in/now good.txt")
				continue
			}
			h.must("rm", "--yes", entry.Address)
		}
		left := []string{}
		for entry, err := range h.client().List(t.Context(), account+"/in") {
			if err != nil {
				t.Fatal(err)
			}
			left = append(left, entry.Name)
		}
		if strings.Join(left, ",") != "good é.txt,now good.txt" {
			t.Errorf("%s: %q is left", account, left)
		}
	}
}

// readerOf fetches a folder as an archive.
func readerOf(t *testing.T, h *heron, address string) (io.ReaderAt, int64) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+h.listen+"/api/v1/archive?"+
		url.Values{"address": {address}}.Encode(), nil)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+h.token())
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Fatalf("archive of %s: %s %s %v", address, answer.Status, content, err)
	}
	return strings.NewReader(string(content)), int64(len(content))
}
