package sealed

import (
	"bytes"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"

	"deftheron/core/store"
)

// Keys decrypt a sealed place, and encrypt what is written to it.
type Keys struct {
	identities []age.Identity
	recipients []string
}

// ErrKey is the error if a key or a passphrase does not open a place.
var ErrKey = errors.New("the key does not open it")

// NewKey returns a new identity file, to be kept by whoever owns it, and its recipient.
func NewKey() (identity, recipient string, err error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", fmt.Errorf("failed to make a key: %w", err)
	}
	return fmt.Sprintf("# public key: %s\n%s\n", key.Recipient(), key), key.Recipient().String(), nil
}

// ParseKeys reads an age identity file: one AGE-SECRET-KEY-1… or several, a line each.
// others are recipients, age1…, that everything is sealed to as well.
func ParseKeys(identity string, others ...string) (Keys, error) {
	identities, err := age.ParseIdentities(strings.NewReader(identity))
	if err != nil {
		return Keys{}, fmt.Errorf("%w: it is not an age identity file: %w", ErrKey, err)
	}
	keys := Keys{identities: identities}
	for _, one := range identities {
		own, ok := one.(*age.X25519Identity)
		if !ok {
			return Keys{}, fmt.Errorf("%w: it holds an identity that is not of X25519", ErrKey)
		}
		keys.recipients = append(keys.recipients, own.Recipient().String())
	}
	for _, other := range others {
		if _, err := age.ParseX25519Recipient(other); err != nil {
			return Keys{}, fmt.Errorf("%q is not a recipient, which begins with age1: %w", other, err)
		}
		if !slices.Contains(keys.recipients, other) {
			keys.recipients = append(keys.recipients, other)
		}
	}
	return keys, nil
}

// Recipients are those that everything is sealed to, one's own first.
func (k Keys) Recipients() []string { return slices.Clone(k.recipients) }

// own are the recipients that the keys themselves open.
func (k Keys) own() (own []string) {
	for _, identity := range k.identities {
		if one, ok := identity.(*age.X25519Identity); ok {
			own = append(own, one.Recipient().String())
		}
	}
	return own
}

// workFactor is the logarithm of the cost of a passphrase: about a second. Tests have less.
var workFactor = 18

// LockIdentity seals an identity file with a passphrase, which takes about a second.
func LockIdentity(identity, passphrase string) ([]byte, error) {
	recipient, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	recipient.SetWorkFactor(workFactor)
	var locked bytes.Buffer
	writer, err := age.Encrypt(&locked, recipient)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(writer, identity); err != nil {
		return nil, err
	}
	if err := writer.Close(); err != nil {
		return nil, err
	}
	return locked.Bytes(), nil
}

// UnlockIdentity opens what LockIdentity has sealed. ErrKey for another passphrase.
func UnlockIdentity(locked []byte, passphrase string) (string, error) {
	identity, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return "", err
	}
	identity.SetMaxWorkFactor(20) // a few seconds: what is at a provider may not ask for more
	plain, err := age.Decrypt(bytes.NewReader(locked), identity)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return "", fmt.Errorf("%w: the passphrase is another one", ErrKey)
	}
	if err != nil {
		return "", fmt.Errorf("the identity file at the provider is damaged: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(plain, 64<<10))
	if err != nil {
		return "", fmt.Errorf("the identity file at the provider is damaged: %w", err)
	}
	return string(text), nil
}

// seal is the key of one age file, and what the file begins with.
type seal struct {
	fileKey []byte // 16 bytes
	nonce   []byte // 16 bytes, with which the key of the payload is made
	start   []byte // the header and the nonce
}

// origin says where a content was written. It is kept in the header of the content, for the
// day on which the manifest of its folder is lost.
type origin struct {
	Folder   string `json:"folder"`
	Path     string `json:"path"`
	Name64   []byte `json:"name64,omitempty"`
	Modified string `json:"modified,omitempty"`
}

// newSeal makes the key of a file. about, where it is not nil, is sealed into the header.
func (k Keys) newSeal(about *origin) (*seal, error) {
	wrap := &wrapping{about: about}
	for _, recipient := range k.recipients {
		one, err := age.ParseX25519Recipient(recipient)
		if err != nil {
			return nil, err
		}
		wrap.recipients = append(wrap.recipients, one)
	}
	var start bytes.Buffer
	if _, err := age.Encrypt(&start, wrap); err != nil { // which writes the header and the nonce at once
		return nil, fmt.Errorf("failed to make the header of a sealed file: %w", err)
	}
	header := start.Bytes()
	return &seal{fileKey: wrap.fileKey, nonce: header[len(header)-nonceSize:], start: header}, nil
}

// openSeal reads what an age file begins with: at least its header and the nonce.
func (k Keys) openSeal(start []byte) (*seal, error) {
	header, err := age.ExtractHeader(bytes.NewReader(start))
	if err != nil {
		return nil, fmt.Errorf("it does not begin as an age file: %w", err)
	}
	if len(start) < len(header)+nonceSize {
		return nil, fmt.Errorf("it ends within its header: %w", io.ErrUnexpectedEOF)
	}
	fileKey, err := age.DecryptHeader(header, k.identities...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, fmt.Errorf("%w: it is sealed to other keys", ErrKey)
	}
	if err != nil {
		return nil, fmt.Errorf("its header is damaged: %w", err)
	}
	end := len(header) + nonceSize
	return &seal{fileKey: fileKey, nonce: start[len(header):end], start: start[:end]}, nil
}

// wrapping gives an age file the stanzas of all recipients, and keeps its key.
type wrapping struct {
	recipients []age.Recipient
	about      *origin
	fileKey    []byte
}

// Wrap implements age.Recipient.
func (w *wrapping) Wrap(fileKey []byte) (stanzas []*age.Stanza, err error) {
	w.fileKey = slices.Clone(fileKey)
	for _, recipient := range w.recipients {
		one, err := recipient.Wrap(fileKey)
		if err != nil {
			return nil, err
		}
		stanzas = append(stanzas, one...)
	}
	if w.about != nil {
		body, err := sealOrigin(fileKey, *w.about)
		if err != nil {
			return nil, err
		}
		stanzas = append(stanzas, &age.Stanza{Type: originStanza, Body: body})
	}
	return stanzas, nil
}

// originStanza is the type of the stanza that says where a content belongs. Other programs
// pass over it, as the format of age wants of stanzas that are unknown.
const originStanza = "deft-heron-place"

func originKey(fileKey []byte) ([]byte, error) {
	return hkdf.Key(sha256.New, fileKey, nil, originStanza, chacha20poly1305.KeySize)
}

func sealOrigin(fileKey []byte, about origin) ([]byte, error) {
	key, err := originKey(fileKey)
	if err != nil {
		return nil, err
	}
	aead, err := chacha20poly1305.New(key)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(about)
	if err != nil {
		return nil, err
	}
	return aead.Seal(nil, make([]byte, aead.NonceSize()), text, nil), nil // the key is of this file alone
}

// origin returns what the header of a content says of its place; ok is false where it
// says nothing, or another key wrote it.
func (s *seal) origin() (about origin, ok bool) {
	_, rest, found := bytes.Cut(s.start, []byte("\n-> "+originStanza+"\n"))
	if !found {
		return about, false
	}
	var text []byte
	for line := range bytes.Lines(rest) {
		line = bytes.TrimSuffix(line, []byte("\n"))
		text = append(text, line...)
		if len(line) < 64 { // the last of a stanza is shorter
			break
		}
	}
	body, err := base64.RawStdEncoding.DecodeString(string(text))
	if err != nil {
		return about, false
	}
	key, err := originKey(s.fileKey)
	if err != nil {
		return about, false
	}
	aead, err := chacha20poly1305.New(key)
	if err != nil {
		return about, false
	}
	plain, err := aead.Open(nil, make([]byte, aead.NonceSize()), body, nil)
	if err != nil {
		return about, false
	}
	return about, json.Unmarshal(plain, &about) == nil
}

// damaged is the error for a file at the provider that was changed.
func damaged(where fmt.Stringer, why error) error {
	return store.Errorf(store.ErrRefused, "%s is not what was sealed there: %w; restore it from another copy, or have the provider "+
		"bring it back", where, why)
}
