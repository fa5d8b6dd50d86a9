package storetest

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"deftheron/core/store"
)

// StaleProbes checks that preparing a store removes what earlier processes left behind when
// they were killed while they prepared it, and nothing that another may be at. The folder is
// where the server has the store's start on this machine; leave leaves something there.
func StaleProbes(t *testing.T, s store.Store, folder string, leave func(path string)) {
	t.Helper()
	old, now, others := filepath.Join(folder, store.OwnFolder, "probe-0123456789abcdef"),
		filepath.Join(folder, store.OwnFolder, "probe-fedcba9876543210"), filepath.Join(folder, store.OwnFolder, "place")
	for path, age := range map[string]time.Duration{old: time.Hour, now: 0, others: time.Hour} {
		if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
			t.Fatal(err)
		}
		leave(path)
		if err := os.Chtimes(path, time.Time{}, time.Now().Add(-age)); err != nil {
			t.Fatal(err)
		}
	}
	if err := store.Prepare(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	entries, err := os.ReadDir(filepath.Dir(old))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, entry := range entries {
		names = append(names, entry.Name())
	}
	if len(names) != 2 || names[0] != filepath.Base(others) || names[1] != filepath.Base(now) {
		t.Errorf("there are %v; only a stale probe may be removed", names)
	}
}
