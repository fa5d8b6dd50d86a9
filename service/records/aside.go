package records

import (
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/go-gormigrate/gormigrate/v2"

	"deftheron/core/remedy"
)

// asideMark stands in the name of records that were kept aside, between that of the database and the
// migration that they were at.
const asideMark = ".before-"

// keepAside copies records that are to be migrated to a file beside them, so that the version that
// wrote them can be gone back to. Those of the migration before are then removed. What a newer version
// has written is left alone: migrate refuses it.
func keepAside(pool *sql.DB, path string) error {
	at, err := migratedTo(pool)
	known := slices.ContainsFunc(migrations, func(one *gormigrate.Migration) bool { return one.ID == at })
	if err != nil || !known || at == migrations[len(migrations)-1].ID {
		return err
	}
	aside := path + asideMark + at
	if _, err := os.Stat(aside); err == nil {
		return nil // from a start that ended in the middle
	}
	unfinished := aside + "-unfinished"
	if err := os.Remove(unfinished); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	file, err := os.OpenFile(unfinished, os.O_CREATE|os.O_RDWR|os.O_EXCL, 0o600) // which SQLite fills
	if err != nil {
		return err
	}
	if err := file.Close(); err != nil {
		return err
	}
	if _, err := pool.Exec("VACUUM INTO ?", unfinished); err != nil {
		_ = os.Remove(unfinished)
		return remedy.Errorf("the records could not be kept aside before they are changed for this version (%w); make room beside %s", err, path)
	}
	older, err := filepath.Glob(path + asideMark + "*")
	if err != nil {
		return err
	}
	if err := os.Rename(unfinished, aside); err != nil {
		return err
	}
	for _, one := range older {
		if one != unfinished && one != aside {
			_ = os.Remove(one) // what is left takes room alone
		}
	}
	return nil
}

// migratedTo is the last migration that a database has had; empty for a new one.
func migratedTo(pool *sql.DB) (string, error) {
	var has bool
	if err := pool.QueryRow("SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = 'migrations')").Scan(&has); err != nil || !has {
		return "", err
	}
	var last sql.NullString
	err := pool.QueryRow("SELECT max(id) FROM migrations").Scan(&last)
	return last.String, err
}
