package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"deftheron/core/remedy"
	"deftheron/service/records"
)

// One-time codes by the clock (RFC 6238): six digits, SHA-1, steps of 30 seconds, as every
// authenticator app has them. A code of the step before or after is taken too, each step once.

const (
	codeStep = 30 * time.Second
	// recoveryCodes is how many there are; each is good once.
	recoveryCodes = 10
)

// NewTOTP returns a new key for one-time codes of a user, not kept yet, and the address from
// which an authenticator app takes it.
func (a *Access) NewTOTP(user records.User) (key, address string, err error) {
	made, err := totp.Generate(totp.GenerateOpts{Issuer: "Deft Heron", AccountName: user.Name})
	if err != nil {
		return "", "", err
	}
	return made.Secret(), made.URL(), nil
}

// SetTOTP keeps a key for one-time codes after a first code of it has proved that the user's app
// has it, and returns new recovery codes.
func (a *Access) SetTOTP(ctx context.Context, user records.User, key, code string) (recovery []string, err error) {
	step, ok := a.stepOf(key, code)
	if !ok {
		return nil, remedy.Errorf("the code is not right; check that the clock of the device is, and enter the code it shows now")
	}
	for range recoveryCodes {
		recovery = append(recovery, newRecoveryCode())
	}
	user.TOTP, user.TOTPStep, user.Recovery = a.Sealer.Seal(totpPurpose(user.ID), []byte(key)), step, nil
	for _, one := range recovery {
		user.Recovery = append(user.Recovery, recoveryHash(one))
	}
	return recovery, a.DB.SaveUser(ctx, user, "totp", "totp_step", "recovery")
}

// RemoveTOTP lets a user sign in without one-time codes.
func (a *Access) RemoveTOTP(ctx context.Context, user records.User) error {
	user.TOTP, user.TOTPStep, user.Recovery = nil, 0, []string{}
	return a.DB.SaveUser(ctx, user, "totp", "totp_step", "recovery")
}

func totpPurpose(user string) string { return "one-time codes of the user " + user }

// checkCode reports whether a code is the user's one-time code of now, or a recovery code, and
// uses it up.
func (a *Access) checkCode(ctx context.Context, user records.User, code string) (bool, error) {
	code = strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if hash := recoveryHash(code); slices.Contains(user.Recovery, hash) {
		user.Recovery = slices.DeleteFunc(user.Recovery, func(one string) bool { return one == hash })
		return true, a.DB.SaveUser(ctx, user, "recovery")
	}
	key, err := a.Sealer.Open(totpPurpose(user.ID), user.TOTP)
	if err != nil {
		return false, remedy.Errorf("the key for the one-time codes of %s cannot be read; use a recovery code, or ask an owner to reset them",
			user.Name)
	}
	step, ok := a.stepOf(string(key), code)
	if !ok {
		return false, nil
	}
	return a.DB.UseTOTP(ctx, user.ID, step)
}

// stepOf returns the step of a code of a key that is good now.
func (a *Access) stepOf(key, code string) (step int64, ok bool) {
	for _, by := range []time.Duration{0, -codeStep, codeStep} {
		at := a.Now().Add(by)
		good, err := totp.ValidateCustom(code, key, at, totp.ValidateOpts{Period: uint(codeStep / time.Second), Digits: otp.DigitsSix})
		if err == nil && good {
			return at.Unix() / int64(codeStep/time.Second), true
		}
	}
	return 0, false
}

// newRecoveryCode returns 80 random bits, as 16 letters and digits in groups of four.
func newRecoveryCode() string {
	var random [10]byte
	rand.Read(random[:])
	text := base32.StdEncoding.EncodeToString(random[:])
	return text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
}

func recoveryHash(code string) string {
	sum := sha256.Sum256([]byte(strings.ReplaceAll(code, "-", "")))
	return hex.EncodeToString(sum[:])
}
