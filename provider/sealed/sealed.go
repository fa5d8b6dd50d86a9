// Package sealed makes a folder of another account an account of its own whose contents and
// names are encrypted at the provider; package core/sealed has the format.
package sealed

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"deftheron/core/sealed"
	"deftheron/core/store"
)

// Provider is the provider "sealed".
type Provider struct{}

// Name implements store.Provider.
func (Provider) Name() string { return "sealed" }

// Title implements store.Provider.
func (Provider) Title() string { return "Sealed place" }

// The options.
const (
	optionIn         = "in"
	optionKeyFile    = "key-file"
	optionRecipients = "recipients"
)

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{
		{Name: optionIn, Title: "Folder", Required: true, Address: true,
			Help: "a folder of a linked account, such as /archive/vault: an empty one, or a sealed place already"},
		{Name: optionKeyFile, Title: "Key file", File: true, Help: "an age identity file, which opens what is sealed"},
		{Name: "passphrase", Title: "Passphrase", Secret: true,
			Help: "in place of a key file: a passphrase that protects a key kept in the folder itself"},
		{Name: optionRecipients, Title: "Further recipients", ConnectionOption: true,
			Help: "age recipients that can open everything too, such as a key in escrow, separated by commas"},
	}
}

// SecretOrigins implements store.Originator: the key is used here and sent nowhere.
func (Provider) SecretOrigins(map[string]string) []string { return nil }

// autoSync is how long names may be gathered by whoever does not ask for them to be written.
const autoSync = 500 * time.Millisecond

// Open implements store.Provider.
func (p Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	base, err := baseOf(ctx, opening)
	if err != nil {
		return nil, err
	}
	keys, err := keysOf(ctx, opening, base)
	if err != nil {
		return nil, err
	}
	place, err := sealed.Open(ctx, sealed.Options{
		Base: base.Store, Folder: base.Folder, Keys: keys, Heads: heads{opening.Notes}, Gate: opening.Gates(), Log: opening.Log, Now: opening.Now,
		ReadOnly: opening.ReadOnly, AutoSync: autoSync,
	})
	switch {
	case errors.Is(err, sealed.ErrKey):
		return nil, wrongKey(opening, err)
	case store.KindOf(err) == store.ErrNotFound:
		return nil, store.Errorf(store.ErrNotFound, "there is no sealed place at %s; link it under this name to make one",
			opening.Options[optionIn])
	case err != nil:
		return nil, err
	}
	if opening.Start != "" {
		if entry, err := place.Stat(ctx, opening.Start.Ref()); err != nil || entry.Kind != store.KindFolder {
			return nil, store.Errorf(store.ErrNotFound, "the starting folder %s is not there; choose one that is", opening.Start.Ref())
		}
	}
	return place, nil
}

// Make implements store.Maker.
func (p Provider) Make(ctx context.Context, opening store.Opening, try bool) (bool, error) {
	base, err := baseOf(ctx, opening)
	if err != nil {
		return false, err
	}
	exists, err := sealed.Exists(ctx, base.Store, base.Folder)
	if err != nil || exists {
		return false, err
	}
	if opening.ReadOnly || base.Store.Traits().ReadOnly {
		return false, store.Errorf(store.ErrRefused, "there is no sealed place at %s, and none can be made: it can only be read",
			opening.Options[optionIn])
	}
	credential, err := credentialOf(ctx, opening)
	if err != nil {
		return false, err
	}
	identity, locked := credential.Files[optionKeyFile], []byte(nil)
	if identity == "" {
		if identity, _, err = sealed.NewKey(); err != nil {
			return false, err
		}
	}
	keys, err := parse(opening, identity)
	if err != nil {
		return false, err
	}
	if try {
		return true, nil
	}
	if credential.Files[optionKeyFile] == "" {
		if locked, err = sealed.LockIdentity(identity, credential.Secret); err != nil {
			return false, err
		}
	}
	return true, sealed.Create(ctx, base.Store, base.Folder, keys, locked)
}

// baseOf opens the account that the place is in.
func baseOf(ctx context.Context, opening store.Opening) (store.Base, error) {
	if opening.Base == nil {
		return store.Base{}, store.Errorf(store.ErrUnsupported, "a sealed place needs another account to be in")
	}
	return opening.Base(ctx, opening.Options[optionIn])
}

// credentialOf is the key file or the passphrase: one of the two.
func credentialOf(ctx context.Context, opening store.Opening) (store.Credential, error) {
	secret, err := opening.Secrets.Load(ctx)
	var missing *store.OptionError
	if err != nil && !errors.As(err, &missing) { // what is missing is said below
		return store.Credential{}, err
	}
	credential, err := store.ParseCredential(secret)
	switch {
	case err != nil:
		return credential, err
	case credential.Secret == "" && credential.Files[optionKeyFile] == "":
		return credential, &store.OptionError{Option: optionKeyFile, Reason: "a key file or a passphrase is missing; give one of the two"}
	case credential.Secret != "" && credential.Files[optionKeyFile] != "":
		return credential, &store.OptionError{Option: optionKeyFile, Reason: "both a key file and a passphrase are given; give one of the two"}
	}
	return credential, nil
}

// keysOf are the keys of a place that is there.
func keysOf(ctx context.Context, opening store.Opening, base store.Base) (sealed.Keys, error) {
	credential, err := credentialOf(ctx, opening)
	if err != nil {
		return sealed.Keys{}, err
	}
	identity := credential.Files[optionKeyFile]
	if identity == "" {
		locked, err := sealed.LockedIdentity(ctx, base.Store, base.Folder)
		if store.KindOf(err) == store.ErrNotFound {
			return sealed.Keys{}, &store.OptionError{Option: optionKeyFile, Reason: "the sealed place at " + opening.Options[optionIn] +
				" has no passphrase; give its key file"}
		}
		if err != nil {
			return sealed.Keys{}, err
		}
		if identity, err = sealed.UnlockIdentity(locked, credential.Secret); err != nil {
			return sealed.Keys{}, wrongKey(opening, err)
		}
	}
	return parse(opening, identity)
}

// parse reads keys, with the further recipients that the options name.
func parse(opening store.Opening, identity string) (sealed.Keys, error) {
	keys, err := sealed.ParseKeys(identity)
	if err != nil {
		return keys, &store.OptionError{Option: optionKeyFile, Reason: "the key file is not an age identity file with a line that begins with " +
			"AGE-SECRET-KEY-1; give the file that the key was kept in"}
	}
	others := strings.FieldsFunc(opening.Options[optionRecipients], func(r rune) bool { return r == ',' || r == ' ' })
	if keys, err = sealed.ParseKeys(identity, others...); err != nil {
		return keys, &store.OptionError{Option: optionRecipients, Reason: err.Error() + "; give public keys, separated by commas"}
	}
	return keys, nil
}

func wrongKey(opening store.Opening, err error) error {
	option := optionKeyFile
	if strings.Contains(err.Error(), "passphrase") {
		option = "secret-file"
	}
	return store.Concerns(store.Errorf(store.ErrSignInExpired,
		"the sealed place at %s does not open: %w; give the key that it was sealed with",
		opening.Options[optionIn], err), option)
}

// heads keep the newest segments that were seen among the notes of the account.
type heads struct{ notes store.Notes }

func (h heads) Head(ctx context.Context, folder string) (head sealed.Head, err error) {
	if h.notes == nil {
		return head, nil
	}
	text, err := h.notes.Note(ctx, folder)
	if err != nil || text == "" {
		return head, err
	}
	_, err = fmt.Sscanf(text, "%d %s", &head.Number, &head.MAC)
	return head, err
}

func (h heads) SaveHead(ctx context.Context, folder string, head sealed.Head) error {
	if h.notes == nil {
		return nil
	}
	if head.Number == 0 {
		return h.notes.SaveNote(ctx, folder, "")
	}
	return h.notes.SaveNote(ctx, folder, fmt.Sprintf("%d %s", head.Number, head.MAC))
}
