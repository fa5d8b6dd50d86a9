package store

import (
	"bytes"
	"encoding/json"
)

// Credential is a secret together with the files that were given with it, such as
// a private key with its passphrase. A provider with an [Option] that is a File
// loads it with [ParseCredential].
type Credential struct {
	// Secret is the password, or what opens the file.
	Secret string `json:"secret"`
	// Files are their contents, by the names of their options.
	Files map[string]string `json:"files"`
}

// credentialMark begins a sealed secret that is a Credential; no password typed by
// a person begins so.
var credentialMark = []byte("\x00heron-credential\n")

// Bytes is the credential as it is sealed: the secret alone where there is no file.
func (c Credential) Bytes() []byte {
	if len(c.Files) == 0 {
		return []byte(c.Secret)
	}
	encoded, err := json.Marshal(c)
	if err != nil {
		panic(err) // two strings and a map of strings
	}
	return append(bytes.Clone(credentialMark), encoded...)
}

// ParseCredential reads what Bytes returned.
func ParseCredential(sealed []byte) (Credential, error) {
	rest, marked := bytes.CutPrefix(sealed, credentialMark)
	if !marked {
		return Credential{Secret: string(sealed)}, nil
	}
	var c Credential
	if err := json.Unmarshal(rest, &c); err != nil {
		return c, Errorf(ErrSignInExpired, "what was kept of the sign-in cannot be read; give it again")
	}
	return c, nil
}
