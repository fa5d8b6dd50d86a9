package records

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/go-gormigrate/gormigrate/v2"
)

// TestEarlierVersions opens the records of every earlier version: they are migrated, and are kept
// aside as they were before.
func TestEarlierVersions(t *testing.T) {
	for i, migration := range migrations[:len(migrations)-1] {
		t.Run(migration.ID, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, FileName)
			old, err := open(path, "rwc&_txlock=immediate", 1)
			if err != nil {
				t.Fatal(err)
			}
			options := *gormigrate.DefaultOptions
			if err := gormigrate.New(old, &options, migrations).MigrateTo(migration.ID); err != nil {
				t.Fatal(err)
			}
			pool, err := old.DB()
			if err != nil {
				t.Fatal(err)
			}
			if _, err := pool.Exec("INSERT INTO meta (name, value) VALUES ('instance', 'earlier')"); err != nil {
				t.Fatal(err)
			}
			if err := pool.Close(); err != nil {
				t.Fatal(err)
			}
			earlier := path + asideMark + "0000-before"
			if err := os.WriteFile(earlier, nil, 0o600); err != nil {
				t.Fatal(err)
			}
			for range 2 { // the second time there is nothing to do
				db, err := Open(dir)
				if err != nil {
					t.Fatal(err)
				}
				if value, err := db.Meta(t.Context(), "instance"); err != nil || value != "earlier" {
					t.Errorf("the migrated records have %q, %v", value, err)
				}
				if err := db.Close(); err != nil {
					t.Fatal(err)
				}
			}
			kept := path + asideMark + migration.ID
			info, err := os.Stat(kept)
			if err != nil || info.Mode().Perm() != 0o600 {
				t.Fatalf("kept aside: %v, %v", info, err)
			}
			if _, err := os.Stat(earlier); err == nil {
				t.Error("what was kept before stays")
			}
			before, err := sql.Open(driverName, "file:"+kept+"?mode=ro")
			if err != nil {
				t.Fatal(err)
			}
			defer before.Close()
			var count int
			if err := before.QueryRow("SELECT count(*) FROM migrations").Scan(&count); err != nil || count != i+1 {
				t.Errorf("what is kept has had %d migrations, %v; want %d", count, err, i+1)
			}
		})
	}
}
