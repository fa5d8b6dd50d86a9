package contract

import (
	"encoding/json"
	"time"
)

// Causes of problems with a sign-in.
const (
	// CauseCodeNeeded says that a one-time code is needed besides the password.
	CauseCodeNeeded = "code-needed"
	// CauseSignInAgain says that the session has to sign in again first: its last sign-in is
	// more than 15 minutes ago.
	CauseSignInAgain = "sign-in-again"
	// CauseNotAllowed says that the role, the grants or the scopes do not allow a request.
	CauseNotAllowed = "not-allowed"
)

// SignIn is one way to sign in to the console: a one-time link, or a name and a password.
type SignIn struct {
	Token    string `json:"token,omitempty" maxLength:"200" doc:"The part of a one-time link after the #."`
	Name     string `json:"name,omitempty" maxLength:"64" doc:"The user's name."`
	Password string `json:"password,omitempty" maxLength:"1024"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"A one-time code or a recovery code."`
}

// SignInWays are the ways in which somebody can sign in to the console.
type SignInWays struct {
	Passkeys    bool   `json:"passkeys" doc:"Passkeys can be used at this address."`
	PasskeysWhy string `json:"passkeys_why,omitempty" doc:"Why passkeys cannot be used."`
	Provider    string `json:"provider,omitempty" doc:"Title of the OpenID provider; empty for none."`
}

// User is somebody who may sign in.
type User struct {
	Name     string     `json:"name"`
	Role     string     `json:"role" enum:"viewer,operator,owner"`
	Disabled bool       `json:"disabled"`
	Password bool       `json:"password" doc:"The user has a password."`
	Codes    bool       `json:"codes" doc:"The user needs a one-time code."`
	Recovery int        `json:"recovery" doc:"Recovery codes left."`
	Passkeys int        `json:"passkeys" doc:"Number of passkeys."`
	Provider string     `json:"provider,omitempty" doc:"Issuer of the OpenID provider that the user signs in with."`
	Grants   []Grant    `json:"grants"`
	Created  time.Time  `json:"created"`
	Seen     *time.Time `json:"seen,omitempty" doc:"Last sign-in."`
}

// Grant is a role on a place and what is below it.
type Grant struct {
	Address string `json:"address" doc:"An account or a folder of it; / is every account."`
	Role    string `json:"role" enum:"viewer,operator"`
}

// NewUser is a user to be added.
type NewUser struct {
	Name     string  `json:"name" maxLength:"64"`
	Role     string  `json:"role" enum:"viewer,operator,owner"`
	Password string  `json:"password,omitempty" maxLength:"1024" doc:"Empty for none: the user then signs in with a link, a passkey or the OpenID provider."`
	Grants   []Grant `json:"grants,omitempty" maxItems:"200"`
}

// UserChange changes a user. What is left out stays.
type UserChange struct {
	Role     *string `json:"role,omitempty"`
	Password *string `json:"password,omitempty" doc:"Empty to remove it."`
	Disabled *bool   `json:"disabled,omitempty"`
	NoCodes  bool    `json:"no_codes,omitempty" doc:"Sign in without one-time codes."`
}

// Password is a change of one's own password.
type Password struct {
	Password string `json:"password" maxLength:"1024"`
}

// Codes is a new key for one-time codes, not in use yet.
type Codes struct {
	Key     string `json:"key" doc:"In base32, to be typed."`
	Address string `json:"address" doc:"otpauth: address for an authenticator app."`
}

// CodesProof puts a key for one-time codes into use.
type CodesProof struct {
	Key  string `json:"key" maxLength:"200"`
	Code string `json:"code" maxLength:"10" doc:"A first code of the key."`
}

// RecoveryCodes are shown once; each signs in once in place of a one-time code.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// Token is a token for programs.
type Token struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	User    string     `json:"user" doc:"The user in whose name it acts."`
	Scopes  []string   `json:"scopes" doc:"Kinds of operations that it is for; none: all."`
	Grants  []Grant    `json:"grants" doc:"Places that it is for; none: all that the user sees."`
	Created time.Time  `json:"created"`
	Expires *time.Time `json:"expires,omitempty"`
	Seen    *time.Time `json:"seen,omitempty" doc:"Last use, to within five minutes."`
}

// TokenRequest is a token to be made.
type TokenRequest struct {
	Name   string   `json:"name" minLength:"1" maxLength:"100"`
	Scopes []string `json:"scopes,omitempty" maxItems:"10" doc:"read, files, jobs, accounts, settings; none: all."`
	Grants []Grant  `json:"grants,omitempty" maxItems:"200"`
	Days   int      `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"Days until it expires; 0 is 90."`
}

// MadeToken is a token that was just made.
type MadeToken struct {
	Token
	Secret string `json:"secret" doc:"The token itself. It is shown this once."`
}

// Passkey is a key in a device of a user.
type Passkey struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Seen    *time.Time `json:"seen,omitempty" doc:"Last use."`
}

// Challenge is what a browser needs to make or to use a passkey.
type Challenge struct {
	ID      string `json:"id" doc:"To be sent back with the answer."`
	Options any    `json:"options" doc:"For navigator.credentials (Web Authentication, section 5)."`
}

// ChallengeAnswer is what a passkey has answered.
type ChallengeAnswer struct {
	ID     string          `json:"id" maxLength:"100"`
	Answer json.RawMessage `json:"answer" doc:"The credential as JSON (Web Authentication, section 5.1.8)."`
}

// NewPasskey is a passkey to be kept.
type NewPasskey struct {
	ID     string          `json:"id" maxLength:"100"`
	Name   string          `json:"name" minLength:"1" maxLength:"100"`
	Answer json.RawMessage `json:"answer" doc:"The credential as JSON (Web Authentication, section 5.1.8)."`
}

// AuditEntry is one line of the audit log.
type AuditEntry struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	User    string    `json:"user" doc:"Name of the user; empty if nobody was signed in."`
	Kind    string    `json:"kind" doc:"Kind of sign-in: owner, session or token, with the name of the token; or share link, with its id."`
	From    string    `json:"from" doc:"Network address."`
	Client  string    `json:"client" doc:"User agent."`
	Action  string    `json:"action" doc:"Id of the operation."`
	Subject string    `json:"subject" doc:"Addresses and names that it was about."`
	Outcome string    `json:"outcome" doc:"done, or the HTTP status and the cause."`
	Times   int64     `json:"times" doc:"How many requests of one kind are in the entry."`
	MAC     string    `json:"mac" doc:"HMAC-SHA256 of the entry and the one before, in hexadecimal."`
}

// AuditPage is a page of the audit log, newest first.
type AuditPage struct {
	Entries []AuditEntry `json:"entries"`
	Next    string       `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// AuditCheck is what came of verifying the audit log.
type AuditCheck struct {
	Whole   bool       `json:"whole" doc:"Nothing was changed, removed or put in between."`
	Entries int64      `json:"entries"`
	First   int64      `json:"first" doc:"Number of the first entry kept."`
	Last    int64      `json:"last"`
	Head    string     `json:"head" doc:"MAC of the last entry, in hexadecimal."`
	Broken  int64      `json:"broken,omitempty" doc:"Number of the first entry that is not as it was written."`
	Why     string     `json:"why,omitempty"`
	Since   *time.Time `json:"since,omitempty" doc:"Time of the first entry kept."`
}
