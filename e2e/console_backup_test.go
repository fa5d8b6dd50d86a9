package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
)

// TestConsoleBackup sets a schedule of backups in the console, and sees that one failed.
func TestConsoleBackup(t *testing.T) {
	t.Parallel()
	h := start(t)
	archive := t.TempDir()
	h.linkFolder("archive", archive)
	h.must("mkdir", "/archive/backups")
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("archive")
	b.open("http://" + h.listen + "/settings/backup")
	b.click("Set a schedule")
	b.field("Folder for the backups", "/archive/backups")
	b.field("Public keys of age, one a line", "age1wrong")
	b.click("Save and make a backup")
	b.shows("is not a public key of age")
	b.look("backup-wrong")
	b.field("Public keys of age, one a line", key.Recipient().String())
	b.click("Save and make a backup")
	b.shows("The last backup was made on")
	b.shows("One key opens them.")
	b.look("backup")
	b.accessible("a schedule of backups")
	if made, _ := filepath.Glob(filepath.Join(archive, "backups", "*.tar.age")); len(made) != 1 {
		t.Errorf("%q", made)
	}
	if err := os.RemoveAll(filepath.Join(archive, "backups")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(archive, "backups"), []byte("in the way"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.inRecords(`UPDATE meta SET value = json_set(value, '$.last', '2026-01-01T00:00:00Z', '$.failed', 'the folder is gone') WHERE name = 'backup schedule'`)
	b.open("http://" + h.listen + "/")
	b.shows("The last backup failed")
	b.look("backup-overview")
	b.open("http://" + h.listen + "/settings/backup")
	b.shows("It is tried again every 10 minutes.")
	b.click("End the schedule")
	b.shows("No backups are made by themselves.")
}
