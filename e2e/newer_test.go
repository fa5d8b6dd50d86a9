package e2e

import (
	"database/sql"
	"testing"

	_ "github.com/mattn/go-sqlite3"
)

// makeNewer leaves the mark that a later version's migration leaves.
func makeNewer(t *testing.T, path string) {
	t.Helper()
	db, err := sql.Open("sqlite3", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("INSERT INTO migrations (id) VALUES ('9999-from-the-future')"); err != nil {
		t.Fatal(err)
	}
}
