package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestConsoleSealed links a sealed place in the console: with a key that is made there, and
// not before its key sheet is kept.
func TestConsoleSealed(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive, saved := t.TempDir(), t.TempDir(), t.TempDir()
	writeFile(t, "level 1.42", desk, "Surveys", "gauge.csv")
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	b := openBrowser(t)
	b.watchPolicy()
	b.downloadsTo(saved)
	b.open(h.signin)
	b.shows("Accounts")
	b.open("http://" + h.listen + "/accounts/link")
	b.shows("Encrypted")
	b.look("sealed-providers")
	b.click("Sealed place")
	b.field("Name in the tree", "vault")
	b.field("Folder", "/archive/vault")
	b.click("Continue")
	b.shows("A key file or a passphrase is missing")
	b.click("Make a new key")
	b.shows("A new key is chosen")
	b.accessible("linking a sealed place")
	b.look("sealed-link")
	b.click("Continue")
	b.shows("A new sealed place will be made in /archive/vault")
	b.until(find("Link it") + ".disabled")
	b.click("The key sheet is kept") // not before it was saved
	b.until(find("Link it") + ".disabled")
	b.click("Save the key sheet")
	b.click("The key sheet is kept")
	b.accessible("the key sheet")
	b.look("sealed-sheet")
	b.click("Link it")
	b.shows("Linked as")
	b.keptToPolicy()
	b.look("sealed-linked")
	for name, part := range map[string]string{"vault-key.txt": "AGE-SECRET-KEY-1", "vault-key-sheet.txt": "AGE-SECRET-KEY-1"} {
		path := filepath.Join(saved, name)
		var text []byte
		for deadline := time.Now().Add(longestWait); !strings.Contains(string(text), part) && time.Now().Before(deadline); {
			time.Sleep(50 * time.Millisecond)
			text, _ = os.ReadFile(path)
		}
		if !strings.Contains(string(text), part) {
			t.Errorf("%s holds %q", name, text)
		}
	}
	h.must("copy", "/desk/Surveys", "/vault")
	if got := h.must("cat", "/vault/Surveys/gauge.csv"); got != "level 1.42" {
		t.Errorf("got %q", got)
	}
}
