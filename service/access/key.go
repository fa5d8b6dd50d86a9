// Package access says who may use the service, and keeps what must stay secret:
// the key that seals credentials, tokens, sessions and one-time links.
package access

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"

	"deftheron/core/remedy"
	"deftheron/service/records"
)

// KeyFileName is the key's name in the data folder.
const KeyFileName = "heron.key"

// Sealer seals credentials with XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha-03):
// a nonce of 24 random bytes, then the sealed text. What a text is sealed for is
// authenticated with it, so that it opens for nothing else.
type Sealer struct {
	aead cipher.AEAD
	key  []byte
}

// KeyError says what is wrong with the key, the consequences, and what to do.
type KeyError struct{ message string }

func (e *KeyError) Error() string { return e.message }

const checkName, checkText = "key-check", "the key of this data folder"

// OpenKey reads the key of a data folder from keyFile, or from the folder if that
// is empty. It creates one only if nothing was ever sealed. A damaged, missing or
// different key is a *KeyError, unless forget is true: then it creates a new one,
// and the caller removes everything that was sealed.
func OpenKey(ctx context.Context, db *records.DB, dir, keyFile string, forget bool) (*Sealer, error) {
	path := keyFile
	if path == "" {
		path = filepath.Join(dir, KeyFileName)
	}
	check, err := db.Meta(ctx, checkName)
	if err != nil {
		return nil, err
	}
	key, err := readKey(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && check == "", err != nil && forget:
		if key, err = makeKey(path); err != nil {
			return nil, err
		}
		check = ""
	case errors.Is(err, fs.ErrNotExist):
		return nil, keyError("The key file %s is missing.", path)
	case err != nil:
		return nil, keyError("The key file %s cannot be used: %v.", path, err)
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	sealer := &Sealer{aead: aead, key: key}
	if check == "" || forget {
		return sealer, db.SetMeta(ctx, checkName, base64.StdEncoding.EncodeToString(sealer.Seal(checkName, []byte(checkText))))
	}
	sealed, err := base64.StdEncoding.DecodeString(check)
	if err == nil {
		_, err = sealer.Open(checkName, sealed)
	}
	if err != nil {
		return nil, keyError("The key file %s is not the one that this data folder was sealed with.", path)
	}
	return sealer, nil
}

func keyError(format string, args ...any) error {
	return &KeyError{fmt.Sprintf(format, args...) +
		" Without the right key the secrets of the linked accounts cannot be read; nothing was changed." +
		" Put the key back, or name it with HERON_KEY_FILE. If it is lost, start once with --forget-secrets:" +
		" accounts, jobs and records stay, and each account is linked again with its secret (heron account unlink, then heron account link)."}
}

func readKey(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, remedy.Errorf("others may read it (mode %04o); make it private with: chmod 600 %s", info.Mode().Perm(), path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, errors.New("it is damaged: it should hold 32 bytes in base64")
	}
	return key, nil
}

func makeKey(path string) ([]byte, error) {
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	// A damaged one is set aside, not overwritten.
	if err := os.Rename(path, path+".damaged"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return key, WriteSecretFile(path, base64.StdEncoding.EncodeToString(key)+"\n")
}

// WriteSecretFile writes a file that only its owner may read, and makes it safe
// on the disk. It does not replace one that is there.
func WriteSecretFile(path, text string) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err := file.WriteString(text); err != nil {
		file.Close()
		return err
	}
	return errors.Join(file.Sync(), file.Close())
}

// Seal seals a text for a purpose.
func (s *Sealer) Seal(purpose string, text []byte) []byte {
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(text)+s.aead.Overhead())
	rand.Read(nonce)
	return s.aead.Seal(nonce, nonce, text, []byte(purpose))
}

// Open decrypts data that was sealed for the purpose.
func (s *Sealer) Open(purpose string, sealed []byte) ([]byte, error) {
	size := s.aead.NonceSize()
	if len(sealed) < size {
		return nil, errors.New("what was sealed is too short")
	}
	return s.aead.Open(nil, sealed[:size], sealed[size:], []byte(purpose))
}
