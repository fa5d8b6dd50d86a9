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

// asideMark is the part of the name of a kept copy of the records between the name of the database and the
// number of its last migration.
const asideMark = ".before-"

// keepAside copies the records to a file beside them before a migration, so that it is possible to return
// to the version that wrote them. It then removes the copy of the migration before. It ignores records of a
// newer version: migrate refuses them.
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
