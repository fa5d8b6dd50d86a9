package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

// OpenedBackup describes the content of a backup, as [Programs.Backup] returns it.
type OpenedBackup struct {
	Made     time.Time `json:"made"`
	Program  string    `json:"program"`
	Accounts int64     `json:"accounts"`
	Jobs     int64     `json:"jobs"`
	Runs     int64     `json:"runs"`
	Users    int64     `json:"users"`
	// Paused are runs that wait for a person after a restore, and Continued is how many go on.
	Paused    []string `json:"paused,omitempty"`
	Continued int      `json:"continued,omitempty"`
}

// BackupOptions say which backup is opened, and by what.
type BackupOptions struct {
	File string
	// Identity is the content of a file of age identities; empty if there is a passphrase.
	Identity, Passphrase string
	// Data is the data folder that is made; empty to check the backup only.
	Data string
}

func (a *app) backup() *cobra.Command {
	return nouns("backup", "Back up the service's own records and key, check a backup, and restore one", a.backupCreate(), a.backupCheck(),
		a.backupRestore(), a.backupSchedule())
}

func (a *app) backupCreate() *cobra.Command {
	var asked contract.NewBackup
	var passphraseFile string
	command := &cobra.Command{
		Use: "create FILE", Short: "Write a backup of the running service to a file", Args: arguments(1, 1, "one file, which must not exist"),
		Long: "The backup holds the records and the key that opens the secrets in them. It is sealed to public keys of age (--to) or to a\n" +
			"passphrase, and can be opened without this program: age --decrypt FILE | tar x.",
		Example: "  heron backup create heron.tar.age --to age1…\n  heron backup create heron.tar.age --passphrase-file passphrase.txt",
		RunE: func(command *cobra.Command, args []string) error {
			if passphraseFile != "" || len(asked.Recipients) == 0 {
				var err error
				if asked.Passphrase, _, err = a.secret(passphraseFile, "Passphrase of the backup"); err != nil {
					return err
				}
			}
			if asked.Passphrase == "" && len(asked.Recipients) == 0 {
				return usageError("a backup is sealed; give a public key with --to, or a passphrase with --passphrase-file")
			}
			file, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("could not write %s: %w", args[0], err)
			}
			size, err := a.client().Backup(command.Context(), asked, file)
			if err == nil {
				err = file.Sync()
			}
			if closed := file.Close(); err == nil {
				err = closed
			}
			if err != nil {
				return errors.Join(err, os.Remove(args[0]))
			}
			if a.json {
				return a.printJSON(map[string]any{"file": args[0], "bytes": size})
			}
			_, err = fmt.Fprintf(a.out, "%s written to %s. Check it with: heron backup check %s\n", format.Size(size), args[0], args[0])
			return err
		},
	}
	command.Flags().StringArrayVar(&asked.Recipients, "to", nil, "public key of age that can open the backup; may be repeated")
	command.Flags().StringVar(&passphraseFile, "passphrase-file", "", "file with a passphrase of at least 12 characters; - is standard input")
	return command
}

// opening are the options by which a backup is opened.
type opening struct{ identityFile, passphraseFile string }

func (o *opening) add(command *cobra.Command) {
	command.Flags().StringVar(&o.identityFile, "identity", "", "file with the identity of age that the backup was sealed to")
	command.Flags().StringVar(&o.passphraseFile, "passphrase-file", "", "file with the passphrase; - is standard input")
	command.MarkFlagsMutuallyExclusive("identity", "passphrase-file")
}

func (a *app) opened(ctx context.Context, file, data string, o *opening) (OpenedBackup, error) {
	options := BackupOptions{File: file, Data: data}
	var err error
	if o.identityFile != "" {
		options.Identity, _, err = a.secret(o.identityFile, "")
	} else {
		options.Passphrase, _, err = a.secret(o.passphraseFile, "Passphrase of the backup")
	}
	if err != nil {
		return OpenedBackup{}, err
	}
	if options.Identity == "" && options.Passphrase == "" {
		return OpenedBackup{}, usageError("a backup is opened with --identity FILE or --passphrase-file FILE")
	}
	return a.programs.Backup(ctx, options)
}

func (b OpenedBackup) words() string {
	return fmt.Sprintf("%s, %s, %s and %s, as of %s", format.Some(b.Accounts, "account"), format.Some(b.Jobs, "job"),
		format.Some(b.Runs, "run"), format.Some(b.Users, "user"), when(&b.Made))
}

func (a *app) backupCheck() *cobra.Command {
	var o opening
	command := &cobra.Command{
		Use: "check FILE", Short: "Open a backup into a scratch folder, and verify everything in it", Args: arguments(1, 1, "one file"),
		Example: "  heron backup check heron.tar.age --identity key.txt",
		RunE: func(command *cobra.Command, args []string) error {
			opened, err := a.opened(command.Context(), args[0], "", &o)
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(opened) })
			}
			_, err = fmt.Fprintf(a.out, "%s The backup is whole: %s.\n", a.paint(reed, "✓"), opened.words())
			return err
		},
	}
	o.add(command)
	return command
}

func (a *app) backupRestore() *cobra.Command {
	var o opening
	var data string
	command := &cobra.Command{
		Use: "restore FILE --data DIR", Short: "Make a data folder of a backup", Args: arguments(1, 1, "one file"),
		Long: "The service that is then started with the folder goes on with accounts, jobs, runs and users. What its records remember of\n" +
			"places is not believed: the next pass of each job compares by content and deletes nothing. Runs that were open and delete\n" +
			"something are paused. Stop the service that the backup is from for good before you start this one.",
		Example: "  heron backup restore heron.tar.age --data /srv/heron --identity key.txt",
		RunE: func(command *cobra.Command, args []string) error {
			if data == "" {
				return usageError("heron backup restore needs a data folder that is new or empty: --data DIR")
			}
			opened, err := a.opened(command.Context(), args[0], data, &o)
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(opened) })
			}
			fmt.Fprintf(a.out, "%s Restored to %s: %s.\n", a.paint(reed, "✓"), data, opened.words())
			if opened.Continued > 0 {
				fmt.Fprintf(a.out, "%s will go on once the service is started.\n", format.Some(int64(opened.Continued), "run"))
			}
			if len(opened.Paused) > 0 {
				fmt.Fprintf(a.out, "Paused, because their plans delete something: %s. Start their jobs again.\n", strings.Join(opened.Paused, ", "))
			}
			fmt.Fprintln(a.out, "Sign-ins that providers renewed since the backup have to be made again: heron account list shows them.")
			a.printCommands([]string{"heron serve --data " + data})
			return nil
		},
	}
	command.Flags().StringVar(&data, "data", "", "the data folder to make; it must be missing or empty")
	o.add(command)
	return command
}

func (a *app) backupSchedule() *cobra.Command {
	var asked contract.BackupSchedule
	var off bool
	command := &cobra.Command{
		Use: "schedule", Short: "Show, set or end scheduled backups to a folder", Args: arguments(0, 0, "nothing more"),
		Example: "  heron backup schedule --in /archive/heron --to age1… --every 1d --keep 14\n  heron backup schedule --off",
		RunE: func(command *cobra.Command, _ []string) error {
			ctx := command.Context()
			var backups contract.Backups
			var err error
			switch {
			case off:
				err = a.client().EndBackups(ctx)
			case asked.Folder != "":
				if err := addresses([]string{asked.Folder}); err != nil {
					return err
				}
				if len(asked.Recipients) == 0 {
					return usageError("a backup is sealed; give a public key of age with --to")
				}
				backups, err = a.client().SetBackups(ctx, asked)
			default:
				backups, err = a.client().Backups(ctx)
			}
			if err != nil || a.json {
				return firstError(err, func() error { return a.printJSON(backups) })
			}
			return a.printBackups(backups)
		},
	}
	flags := command.Flags()
	flags.StringVar(&asked.Folder, "in", "", "address of the folder that backups are written to")
	flags.StringArrayVar(&asked.Recipients, "to", nil, "public key of age that can open the backups; may be repeated")
	flags.StringVar(&asked.Every, "every", "1d", "how often: 12h, 1d or 1w")
	flags.IntVar(&asked.Keep, "keep", 14, "how many backups stay in the folder")
	flags.BoolVar(&off, "off", false, "end the schedule; the backups stay")
	command.MarkFlagsMutuallyExclusive("in", "off")
	_ = command.RegisterFlagCompletionFunc("in", a.completeAddresses)
	return command
}

func (a *app) printBackups(backups contract.Backups) error {
	if backups.Restored != nil {
		fmt.Fprintf(a.out, "This service was restored from a backup of %s.\n", when(backups.Restored))
	}
	one := backups.Schedule
	if one == nil {
		_, err := fmt.Fprintln(a.out, "No backups are made by themselves. Set a schedule with: heron backup schedule --in ADDRESS --to KEY")
		return err
	}
	fmt.Fprintf(a.out, "A backup goes to %s every %s; the newest %d stay.\n", format.Plain(one.Folder), intervalWords(one.Every),
		one.Keep)
	switch {
	case one.Failed != "":
		fmt.Fprintf(a.out, "%s The last backup failed: %s. It is tried again every 10 minutes.\n", a.paint(brick, "✗"), format.Plain(one.Failed))
	case one.Last != nil:
		fmt.Fprintf(a.out, "The last was %s of %s, %s.\n", format.Plain(one.LastName), when(one.Last), format.Size(one.LastSize))
	}
	if one.Failed != "" {
		return &exitError{exitFailed, fmt.Errorf("no backup was made")}
	}
	return nil
}

// intervalWords say how often, of a duration as Go writes it.
func intervalWords(text string) string {
	every, err := time.ParseDuration(text)
	if days := every / (24 * time.Hour); err == nil && days > 0 && every%(24*time.Hour) == 0 {
		return format.Some(int64(days), "day")
	}
	return format.Duration(every.Seconds())
}
