package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"deftheron/cli/format"
	"deftheron/contract"
)

// sealedProvider is the provider whose accounts are encrypted with a key that its owner keeps.
const sealedProvider = "sealed"

const keyFileOption = "key-file"

// newKeyFile creates a key if a sealed place is linked with a key file that does not exist.
func (a *app) newKeyFile(ctx context.Context, flags *linkFlags) error {
	path := flags.files[keyFileOption]
	if path == nil || *path == "" || flags.secretFile != "" {
		return nil
	}
	if _, err := os.Stat(*path); !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if flags.try {
		return usageError("the key file %s is not there; link the place to make a key, or give the file that holds it", *path)
	}
	key, err := a.client().NewKey(ctx)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(*path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return usageError("the key file %s cannot be made (%v); choose another place for it", *path, bareError(err))
	}
	if _, err := file.WriteString(key.Identity); err != nil {
		return errors.Join(err, file.Close())
	}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "Made a new key in %s.\n", *path)
	return nil
}

// linkSealed links a sealed place. One that is new is made only after its owner has said that
// the key sheet is kept.
func (a *app) linkSealed(ctx context.Context, provider contract.Provider, link contract.Link, flags *linkFlags) error {
	trying := link
	trying.Try = true
	tried, err := a.client().Link(ctx, trying)
	if err != nil {
		return err
	}
	isNew := tried.Found != nil && tried.Found.New
	if isNew && !link.Try {
		sheet, err := a.writeKeySheet(link, flags)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.err, "Wrote the key sheet %s. Print it, or keep it where neither this machine nor the provider can lose it.\n"+
			"Without the key nobody can read what is sealed, the provider included. Files in a sealed place cannot be opened or\n"+
			"edited at the provider: use it as a copy, not as a place to work in.\n", sheet)
		if err := a.confirm(flags.yes, "Is the key sheet kept?", "keep the key sheet"); err != nil {
			return err
		}
	}
	if link.Try {
		if a.json {
			return a.printJSON(tried)
		}
		if isNew {
			fmt.Fprintf(a.out, "A sealed place would be made at %s. Nothing was made or linked.\n", link.Options["in"])
			return nil
		}
		fmt.Fprintf(a.out, "Reached the sealed place at %s. It is not linked.\n", link.Options["in"])
		return a.printFound(*tried.Found)
	}
	account, err := a.client().Link(ctx, link)
	if err != nil {
		return err
	}
	return a.printLinked(provider, account)
}

// writeKeySheet writes everything that is needed to read a sealed place when nothing else is
// left, and returns the file's path.
func (a *app) writeKeySheet(link contract.Link, flags *linkFlags) (string, error) {
	path := link.Name + "-key-sheet.txt"
	if key := flags.files[keyFileOption]; key != nil && *key != "" {
		path = filepath.Join(filepath.Dir(*key), path)
	}
	if flags.keySheet != "" {
		path = flags.keySheet
	}
	var b strings.Builder
	fmt.Fprintf(&b, "KEY SHEET of the sealed place %s\n\nFolder at the provider   %s\nWritten                  %s\n", link.Name,
		link.Options["in"],
		time.Now().Format("2006-01-02 15:04"))
	if identity := link.Files[keyFileOption]; identity != "" {
		fmt.Fprintf(&b, "\nThe key. Whoever has it can read everything in the place.\n\n%s\n", strings.TrimSpace(identity))
	} else {
		fmt.Fprintf(&b,
			"\nThe place opens with a passphrase. Write it here by hand:\n\n____________________________________________________________\n\n"+
				"The passphrase protects the file identity.age in the folder at the provider, which is the key.\n")
	}
	if others := link.Options["recipients"]; others != "" {
		fmt.Fprintf(&b, "\nThese keys open it too   %s\n", others)
	}
	fmt.Fprintf(&b, `
To read the place: link it again with this key (heron account link sealed NAME --in ADDRESS), or, without Deft Heron:
every file in it is an age file (age-encryption.org/v1). Decrypt the manifests below "folders" with
    age -d -i KEYFILE folders/ID/NUMBER.age
They name each file and say where its content is below "contents". The file place.age says which folder is the first.
`)
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return "", usageError("the key sheet %s cannot be written (%v); change to a folder that you can write to", path, bareError(err))
	}
	_, err = file.WriteString(b.String())
	return path, errors.Join(err, file.Close())
}

func (a *app) accountReseal() *cobra.Command {
	var namesAlone bool
	command := &cobra.Command{
		Use: "reseal NAME", Short: "Seal a sealed account to its recipients again", Args: arguments(1, 1, "the account's name"),
		Long: "After heron account edit NAME --recipients age1…, names are sealed to the new recipients at once. Their contents stay\n" +
			"readable to the former ones until this command has sealed them again: it reads and writes every file once. If it is\n" +
			"interrupted, it goes on where it was.",
		Example: "  heron account reseal vault", ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			return a.sealingWork(command.Context(), args[0], contract.SealingWork{Kind: "reseal", Contents: !namesAlone})
		},
	}
	command.Flags().BoolVar(&namesAlone, "names", false, "the names alone")
	return command
}

func (a *app) accountRebuild() *cobra.Command {
	return &cobra.Command{
		Use: "rebuild NAME", Short: "Rebuild lost manifests of a sealed account", Args: arguments(1, 1, "the account's name"),
		Long: "If a manifest of a sealed account is missing or damaged at the provider, the names of its files are taken from the\n" +
			"headers of their contents. Files come back where they were written; renames since then, and empty folders, do not.",
		Example: "  heron account rebuild vault", ValidArgsFunction: a.completeAccounts,
		RunE: func(command *cobra.Command, args []string) error {
			return a.sealingWork(command.Context(), args[0], contract.SealingWork{Kind: "rebuild"})
		},
	}
}

// sealingWork starts work on a sealed account and waits for its end.
func (a *app) sealingWork(ctx context.Context, name string, work contract.SealingWork) error {
	name = strings.Trim(name, "/")
	c := a.client()
	is, err := c.StartSealing(ctx, name, work)
	for err == nil && is.Task != nil && is.Task.Ended == nil {
		if a.asks && !a.json {
			fmt.Fprintf(a.err, "\r%d files, %s", is.Task.Files, format.Size(is.Task.Bytes))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		is, err = c.Sealing(ctx, name)
	}
	if err != nil {
		return err
	}
	if a.asks && !a.json {
		fmt.Fprint(a.err, "\r")
	}
	task := is.Task
	if a.json {
		return a.printJSON(is)
	}
	if task.Why != "" {
		return &exitError{exitFailed, errors.New(strings.TrimSpace(task.Why + " " + task.Remedy))}
	}
	if work.Kind == "rebuild" {
		for _, folder := range task.Folders {
			fmt.Fprintf(a.out, "  rebuilt  %s\n", format.Plain(folder))
		}
		fmt.Fprintf(a.out, "Rebuilt %s; %s again, %s of unknown place.\n", format.Some(int64(len(task.Folders)), "manifest"),
			format.Some(task.Files, "file"), format.Some(task.Left, "content"))
		return nil
	}
	fmt.Fprintf(a.out, "Sealed the names of %s and the contents of %s (%s) again.\n", format.Some(task.Names, "folder"),
		format.Some(task.Files, "file"), format.Size(task.Bytes))
	if task.Left > 0 {
		return &exitError{exitFailed, fmt.Errorf("%s could not be read and stay as they were; see the service log", format.Some(task.Left,
			"file"))}
	}
	return nil
}
