package backup

import (
	"archive/tar"
	"bytes"
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

// Identities are what opens a backup: the lines of a file of age identities, or a passphrase.
func Identities(file, passphrase string) ([]age.Identity, error) {
	if passphrase != "" {
		identity, err := age.NewScryptIdentity(passphrase)
		return []age.Identity{identity}, err
	}
	identities, err := age.ParseIdentities(strings.NewReader(file))
	if err != nil {
		return nil, remedy.Errorf("the file holds no identity of age; it has a line that begins with AGE-SECRET-KEY-1")
	}
	return identities, nil
}

// Check opens a backup into a scratch folder, and returns its manifest if everything in it
// is whole: every file by its hash, the records by SQLite's own check, and the key by what
// was sealed with it. Nothing of it stays.
func Check(ctx context.Context, from io.Reader, scratch string, identities []age.Identity) (manifest Manifest, err error) {
	dir, err := os.MkdirTemp(scratch, "heron-check-")
	if err != nil {
		return manifest, fmt.Errorf("there is no room to open the backup: %w", err)
	}
	defer os.RemoveAll(dir)
	if manifest, err = extract(ctx, from, dir, identities); err != nil {
		return manifest, err
	}
	db, err := opened(ctx, dir)
	if err != nil {
		return manifest, err
	}
	return manifest, db.Close()
}

// opened opens the records of an opened backup, after they and the key were checked.
func opened(ctx context.Context, dir string) (*records.DB, error) {
	if err := records.CheckFile(ctx, filepath.Join(dir, records.FileName)); err != nil {
		return nil, remedy.Errorf("the records in the backup are damaged (%w); take an earlier backup", err)
	}
	db, err := records.Open(dir)
	if errors.Is(err, records.ErrNewer) {
		return nil, remedy.Errorf("the backup was made by a newer version of heron; use that one")
	}
	if err != nil {
		return nil, err
	}
	if _, err := access.OpenKey(ctx, db, dir, "", false); err != nil {
		return nil, errors.Join(remedy.Errorf("the key in the backup does not belong to its records; use an earlier backup"), db.Close())
	}
	return db, nil
}

// Restore makes a data folder of a backup. The folder must be missing or empty. What the
// records remember of places is not believed from then on, as the places may have changed
// since: the next pass of each job compares by content and deletes nothing.
func Restore(ctx context.Context, from io.Reader, dir string, identities []age.Identity) (manifest Manifest, done records.Restored,
	err error) {
	if err := free(dir); err != nil {
		return manifest, done, err
	}
	parent := filepath.Dir(filepath.Clean(dir))
	if err := os.MkdirAll(parent, 0o700); err != nil {
		return manifest, done, remedy.Errorf("the folder %s cannot be made (%v); name another with --data", parent, err)
	}
	arriving, err := os.MkdirTemp(parent, ".heron-restoring-")
	if err != nil {
		return manifest, done, remedy.Errorf("%s cannot be written to (%v); name another folder with --data", parent, err)
	}
	defer os.RemoveAll(arriving)
	if manifest, err = extract(ctx, from, arriving, identities); err != nil {
		return manifest, done, err
	}
	db, err := opened(ctx, arriving)
	if err != nil {
		return manifest, done, err
	}
	done, err = db.MarkRestored(ctx, manifest.Made, time.Now())
	if err = errors.Join(err, db.Close()); err != nil {
		return manifest, done, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, os.ErrNotExist) {
		return manifest, done, err // it was found empty
	}
	return manifest, done, os.Rename(arriving, dir)
}

// free returns an error unless a folder is missing or empty.
func free(dir string) error {
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return remedy.Errorf("%s cannot be read (%v); name another folder with --data", dir, err)
	case len(entries) > 0:
		return remedy.Errorf("the folder %s is not empty, and nothing was restored; name a new one with --data", dir)
	}
	return nil
}

// extract opens a backup and writes its files into a folder, each checked by its hash.
func extract(ctx context.Context, from io.Reader, dir string, identities []age.Identity) (manifest Manifest, err error) {
	plain, err := age.Decrypt(from, identities...)
	var none *age.NoIdentityMatchError
	switch {
	case errors.As(err, &none):
		return manifest, remedy.Errorf("the backup cannot be opened with this key or passphrase; use the one that it was sealed to")
	case err != nil:
		return manifest, remedy.Errorf("it is not a backup, or its beginning is damaged (%v); check the file", err)
	}
	archive := tar.NewReader(reading{ctx, plain})
	header, err := archive.Next()
	if err != nil || header.Name != manifestName || header.Size > largestManifest {
		return manifest, damaged(err, "it has no manifest")
	}
	var text bytes.Buffer
	if _, err := io.Copy(&text, archive); err != nil {
		return manifest, damaged(err, "")
	}
	if err := json.Unmarshal(text.Bytes(), &manifest); err != nil || manifest.Format != format {
		return manifest, damaged(err, "its manifest is not one")
	}
	if manifest.Version != 1 {
		return manifest, remedy.Errorf("the backup has version %d of the format, which this version of heron does not know; use a newer one",
			manifest.Version)
	}
	for _, one := range manifest.Files {
		if err := extractFile(archive, dir, one); err != nil {
			return manifest, err
		}
	}
	if _, err := archive.Next(); err != io.EOF {
		return manifest, damaged(err, "it holds more than its manifest lists")
	}
	if _, err := io.Copy(io.Discard, plain); err != nil { // to its end, which age checks
		return manifest, damaged(err, "")
	}
	for _, needed := range []string{records.FileName, access.KeyFileName} {
		if !exists(filepath.Join(dir, needed)) {
			return manifest, damaged(nil, "it has no "+needed)
		}
	}
	return manifest, nil
}

func damaged(err error, what string) error {
	if what == "" || err != nil && !errors.Is(err, io.EOF) {
		what = fmt.Sprint(err)
	}
	return remedy.Errorf("the backup is damaged (%s); take another copy of it, or an earlier backup", what)
}

// extractFile writes the next file of an archive, which has to be what the manifest says.
func extractFile(archive *tar.Reader, dir string, one File) error {
	switch one.Name {
	case records.FileName, access.KeyFileName, access.TokenFileName:
	default:
		return damaged(nil, fmt.Sprintf("it lists the file %q", one.Name))
	}
	header, err := archive.Next()
	if err != nil || header.Name != one.Name || header.Size != one.Size || one.Size > largest {
		return damaged(err, one.Name+" is missing")
	}
	file, err := os.OpenFile(filepath.Join(dir, one.Name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	hash := sha256.New()
	_, err = io.Copy(io.MultiWriter(file, hash), archive)
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return damaged(err, "")
	}
	if hex.EncodeToString(hash.Sum(nil)) != one.SHA256 {
		return damaged(nil, one.Name+" has another hash than its manifest says")
	}
	return nil
}
