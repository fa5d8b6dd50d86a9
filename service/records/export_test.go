package records

import (
	"path/filepath"

	"github.com/go-gormigrate/gormigrate/v2"
)

// UseDriver has databases opened by another driver of the same kind.
func UseDriver(name string) { driverName = name }

// MigrateTo makes the database of a data folder as it was after a migration.
func MigrateTo(dir, id string) error {
	db, err := open(filepath.Join(dir, FileName), "rwc", 1)
	if err != nil {
		return err
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	defer pool.Close()
	options := *gormigrate.DefaultOptions
	options.UseTransaction = true
	return gormigrate.New(db, &options, migrations).MigrateTo(id)
}
