package main

import (
	"context"
	"fmt"
	"os"

	"deftheron/cli"
	"deftheron/service/backup"
)

// openBackup checks a backup, or makes a data folder of it.
func openBackup(ctx context.Context, options cli.BackupOptions) (opened cli.OpenedBackup, err error) {
	identities, err := backup.Identities(options.Identity, options.Passphrase)
	if err != nil {
		return opened, err
	}
	file, err := os.Open(options.File)
	if err != nil {
		return opened, fmt.Errorf("the backup cannot be read: %w", err)
	}
	defer file.Close()
	var manifest backup.Manifest
	if options.Data == "" {
		manifest, err = backup.Check(ctx, file, "", identities)
	} else {
		restored, done, failed := backup.Restore(ctx, file, options.Data, identities)
		manifest, err = restored, failed
		opened.Paused, opened.Continued = done.Paused, done.Runs
	}
	opened.Made, opened.Program = manifest.Made, manifest.Program
	opened.Accounts, opened.Jobs = manifest.Counts.Accounts, manifest.Counts.Jobs
	opened.Runs, opened.Users = manifest.Counts.Runs, manifest.Counts.Users
	return opened, err
}
