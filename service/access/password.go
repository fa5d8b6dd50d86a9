package access

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"

	"deftheron/core/remedy"
)

// Passwords are kept as argon2id hashes (RFC 9106) in the usual text form,
// $argon2id$v=19$m=19456,t=2,p=1$SALT$HASH, so that the costs can rise later.
const (
	argonMemory, argonTime, argonThreads = 19 << 10, 2, 1
	saltSize, hashSize                   = 16, 32
	// mostHashing is how many passwords are hashed at once; each takes 19 MiB.
	mostHashing = 2
	// A password has at least shortestPassword characters and at most longestPassword bytes.
	shortestPassword, longestPassword = 12, 1024
)

// dummyHash has the cost of a real one: whoever guesses names learns nothing from the time.
var dummyHash = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
	base64.RawStdEncoding.EncodeToString(make([]byte, saltSize)), base64.RawStdEncoding.EncodeToString(make([]byte, hashSize)))

// CheckPassword returns an error if a new password for a user is too weak.
func CheckPassword(name, password string) error {
	switch {
	case utf8.RuneCountInString(password) < shortestPassword:
		return remedy.Errorf("the password is too short; use at least %d characters", shortestPassword)
	case len(password) > longestPassword:
		return remedy.Errorf("the password is too long; use at most %d bytes", longestPassword)
	case strings.Contains(strings.ToLower(password), strings.ToLower(name)):
		return remedy.Errorf("the password contains the user's name; choose one that does not")
	case strings.Count(password, password[:1]) == len(password):
		return remedy.Errorf("the password is one character over and over; choose another")
	}
	return nil
}

// Hash returns the hash of the password of a share link.
func (a *Access) Hash(password string) string { return a.hashPassword(password) }

// Matches reports whether the password of a share link has a hash.
func (a *Access) Matches(password, hash string) bool { return a.matches(password, hash) }

// hashPassword returns the text form of a new hash.
func (a *Access) hashPassword(password string) string {
	salt := make([]byte, saltSize)
	rand.Read(salt)
	a.hashing <- struct{}{}
	defer func() { <-a.hashing }()
	hash := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, hashSize)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(hash))
}

// matches reports whether a password has a hash. An empty hash matches nothing, in the same time.
func (a *Access) matches(password, kept string) bool {
	none := kept == ""
	if none {
		kept = dummyHash
	}
	var version, threads int
	var memory, time uint32
	fields := strings.Split(kept, "$")
	if len(fields) != 6 || fields[1] != "argon2id" || len(password) > longestPassword {
		return false
	}
	if _, err := fmt.Sscanf(fields[2]+" "+fields[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &time, &threads); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(fields[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(fields[5])
	if err != nil {
		return false
	}
	a.hashing <- struct{}{}
	defer func() { <-a.hashing }()
	hash := argon2.IDKey([]byte(password), salt, time, memory, uint8(threads), uint32(len(want)))
	return subtle.ConstantTimeCompare(hash, want) == 1 && !none
}
