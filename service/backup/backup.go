// Package backup carries the records of a service away, and brings them back.
//
// A backup is an age file (age-encryption.org/v1) of a tar archive (POSIX, ustar): the
// manifest, the records (SQLite), the key that seals the credentials in them, and the
// owner's token. So it can be opened without this program:
//
//	age --decrypt heron.backup | tar x
//
// [Create] makes one while the service runs, [Check] tries it, and [Restore] makes a data
// folder of it.
package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"deftheron/core/remedy"
	"deftheron/service/access"
	"deftheron/service/records"
)

const (
	manifestName = "manifest.json"
	// format is that of the archive.
	format = "heron-backup"
	// largest is how many bytes a file of a backup may have.
	largest = 1 << 40
	// largestManifest is how many bytes a manifest may have.
	largestManifest = 1 << 20
)

// Manifest is the first file of the archive.
type Manifest struct {
	Format   string    `json:"format"`
	Version  int       `json:"version"`
	Made     time.Time `json:"made"`
	Program  string    `json:"program"`  // the version that made it
	Instance string    `json:"instance"` // the id of the data folder
	Counts   Counts    `json:"counts"`
	Files    []File    `json:"files"`
}

// Counts are how much the records hold.
type Counts struct {
	Accounts int64 `json:"accounts"`
	Jobs     int64 `json:"jobs"`
	Runs     int64 `json:"runs"`
	Users    int64 `json:"users"`
}

// File is a file of the archive.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`   // bytes
	SHA256 string `json:"sha256"` // hexadecimal
}

// Source is a service of which a backup is made.
type Source struct {
	DB      *records.DB
	Dir     string // the data folder
	KeyFile string // empty if the key is in the data folder
	Scratch string // a folder for a copy of the records
	Program string
}

// Recipients are whom a backup is sealed to: public keys of age, or a passphrase.
func Recipients(keys []string, passphrase string) (recipients []age.Recipient, err error) {
	switch {
	case len(keys) > 0 && passphrase != "":
		return nil, remedy.Errorf("a backup is sealed to public keys or to a passphrase, not to both; give one")
	case passphrase != "" && len(passphrase) < 12:
		return nil, remedy.Errorf("the passphrase has fewer than 12 characters; give a longer one: a backup holds the secrets of all accounts")
	case passphrase != "":
		recipient, err := age.NewScryptRecipient(passphrase)
		return []age.Recipient{recipient}, err
	case len(keys) == 0:
		return nil, remedy.Errorf("a backup holds secrets and has to be sealed; give a public key of age, or a passphrase")
	}
	for _, key := range keys {
		recipient, err := age.ParseX25519Recipient(strings.TrimSpace(key))
		if err != nil {
			return nil, remedy.Errorf("%q is not a public key of age; it begins with age1", key)
		}
		recipients = append(recipients, recipient)
	}
	return recipients, nil
}

// Create writes a backup of a service that may be running. Its records are as they were at
// one moment.
func Create(ctx context.Context, source Source, to io.Writer, recipients []age.Recipient) (manifest Manifest, err error) {
	dir, err := os.MkdirTemp(source.Scratch, "backup-")
	if err != nil {
		return manifest, fmt.Errorf("there is no room for a copy of the records: %w", err)
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, records.FileName)
	if err := source.DB.CopyTo(ctx, copied); err != nil {
		return manifest, fmt.Errorf("the records could not be copied: %w", err)
	}
	if manifest, err = describe(ctx, copied); err != nil {
		return manifest, err
	}
	manifest.Program = source.Program
	key := source.KeyFile
	if key == "" {
		key = filepath.Join(source.Dir, access.KeyFileName)
	}
	files := [][2]string{{records.FileName, copied}, {access.KeyFileName, key}}
	if token := filepath.Join(source.Dir, access.TokenFileName); exists(token) {
		files = append(files, [2]string{access.TokenFileName, token})
	}
	for _, file := range files {
		one, err := sum(file[0], file[1])
		if err != nil {
			return manifest, err
		}
		manifest.Files = append(manifest.Files, one)
	}
	sealed, err := age.Encrypt(to, recipients...)
	if err != nil {
		return manifest, err
	}
	archive := tar.NewWriter(sealed)
	if err := addManifest(archive, manifest); err != nil {
		return manifest, err
	}
	for i, file := range files {
		if err := addFile(ctx, archive, manifest.Files[i], file[1]); err != nil {
			return manifest, err
		}
	}
	return manifest, errors.Join(archive.Close(), sealed.Close())
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// describe opens a copy of records and counts what it holds.
func describe(ctx context.Context, path string) (manifest Manifest, err error) {
	summary, err := records.Summarize(ctx, path)
	return Manifest{Format: format, Version: 1, Made: time.Now().UTC().Truncate(time.Second), Instance: summary.Instance,
		Counts: Counts{Accounts: summary.Accounts, Jobs: summary.Jobs, Runs: summary.Runs, Users: summary.Users}}, err
}

func sum(name, path string) (one File, err error) {
	file, err := os.Open(path)
	if err != nil {
		return one, err
	}
	defer file.Close()
	hash := sha256.New()
	one = File{Name: name}
	one.Size, err = io.Copy(hash, file)
	one.SHA256 = hex.EncodeToString(hash.Sum(nil))
	return one, err
}

func addManifest(archive *tar.Writer, manifest Manifest) error {
	text, err := json.MarshalIndent(manifest, "", "  ")
	if err != nil {
		return err
	}
	if err := archive.WriteHeader(&tar.Header{Name: manifestName, Mode: 0o600, Size: int64(len(text)), ModTime: manifest.Made}); err != nil {
		return err
	}
	_, err = archive.Write(text)
	return err
}

// addFile adds a file, which must be as it was when it was summed up.
func addFile(ctx context.Context, archive *tar.Writer, one File, path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := archive.WriteHeader(&tar.Header{Name: one.Name, Mode: 0o600, Size: one.Size, ModTime: time.Now()}); err != nil {
		return err
	}
	hash := sha256.New()
	if _, err := io.Copy(io.MultiWriter(archive, hash), reading{ctx, io.LimitReader(file, one.Size)}); err != nil {
		return err
	}
	if hex.EncodeToString(hash.Sum(nil)) != one.SHA256 {
		return fmt.Errorf("%s changed while it was copied", one.Name)
	}
	return nil
}

// reading ends with a context.
type reading struct {
	ctx  context.Context
	from io.Reader
}

func (r reading) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.from.Read(p)
}
