// Package contract holds the types that the service's API and its clients
// exchange, as JSON. Sizes are in bytes, times in RFC 3339, rates in bytes a
// second, durations in seconds. Addresses are of the form /account/folder/name.
package contract

import "time"

// Root is where the API lives.
const Root = "/api/v1"

// Problem says what went wrong (RFC 9457), and what to do about it.
type Problem struct {
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail" doc:"What is wrong, in one sentence."`
	Remedy string `json:"remedy,omitempty" doc:"What to do about it, in one sentence."`
	// Commands are for terminals: the console has buttons for them.
	Commands []string `json:"commands,omitempty" doc:"Commands of a terminal that do what the remedy says."`
	Cause    string   `json:"cause,omitempty" doc:"The cause's code."`
	Options  []string `json:"options,omitempty" doc:"The options to look at, of an account to be linked or changed."`
	// ErrorID is of a mistake of the service's own.
	ErrorID string `json:"error_id,omitempty" doc:"Internal errors: the id in the service log."`
}

// Error implements error.
func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Detail
	}
	return p.Detail + " " + p.Remedy
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of a problem.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Whoami is who makes the request, and to which service.
type Whoami struct {
	User     string  `json:"user" doc:"The user's name."`
	Role     string  `json:"role" enum:"viewer,operator,owner"`
	Kind     string  `json:"kind" doc:"Kind of sign-in: owner (the owner's token), session (the console) or token."`
	Grants   []Grant `json:"grants" doc:"Places that the user sees; none for an owner, who sees all."`
	Fresh    bool    `json:"fresh" doc:"Signed in during the last 15 minutes, as some operations need."`
	Codes    bool    `json:"codes" doc:"Signs in with one-time codes."`
	Password bool    `json:"password" doc:"Signs in with a password."`
	Instance string  `json:"instance" doc:"The id of this service's data folder."`
	Version  string  `json:"version"`
}

// SigninLink is a link that signs in to the console once.
type SigninLink struct {
	URL     string    `json:"url"`
	Expires time.Time `json:"expires"`
}

// Option is one thing to be given when an account is linked.
type Option struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	Help     string   `json:"help"`
	Required bool     `json:"required"`
	Default  string   `json:"default,omitempty"`
	Choices  []string `json:"choices,omitempty"`
	Secret   bool     `json:"secret"`
	File     bool     `json:"file,omitempty" doc:"The content of a file, stored encrypted."`
}

// Provider is a kind of place that accounts can be at.
type Provider struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Options []Option `json:"options"`
	// Consents are the ways in which a person can agree at the provider; none
	// where accounts are linked with a secret.
	Consents       []string `json:"consents" enum:"page,device,paste" doc:"Ways to give consent, the best first; none for accounts with a secret."`
	Resource       string   `json:"resource,omitempty" doc:"The option of which a sign-in reaches several: share or bucket."`
	IdentityOption string   `json:"identity_option,omitempty" doc:"The option that pins the server's host key or certificate."`
	About          string   `json:"about,omitempty"`
	Declared       bool     `json:"declared" doc:"The provider has a definition."`
	Shipped        bool     `json:"shipped" doc:"Part of the program."`
	Registered     string   `json:"registered,omitempty" doc:"Client id of your own app registration."`
	Definition     string   `json:"definition,omitempty" doc:"Text of the definition, for a single provider."`
}

// Link is what an account is linked with.
type Link struct {
	Provider string            `json:"provider"`
	Name     string            `json:"name"`
	Options  map[string]string `json:"options,omitempty"`
	Start    string            `json:"start,omitempty" doc:"Starting folder of the account."`
	Secret   string            `json:"secret,omitempty"`
	Files    map[string]string `json:"files,omitempty" doc:"Contents of files, such as a private key, by option."`
	ReadOnly bool              `json:"read_only,omitempty" doc:"Nothing is ever written to the account."`
	At       string            `json:"at,omitempty" doc:"Site or worker that reaches the account; the service itself if it is left out."`
	Try      bool              `json:"try,omitempty" doc:"Reach the account and show what it holds, but do not link it."`
	Again    bool              `json:"again,omitempty" doc:"Link an unlinked account of that name again and continue its history."`
}

// Space is how much an account holds; -1 is unknown.
type Space struct {
	Used  int64 `json:"used"`
	Free  int64 `json:"free"`
	Total int64 `json:"total"`
	// Volume is the same for accounts that share their space.
	Volume string `json:"volume,omitempty"`
}

// AccountSpace is the space of one account, or why it is not known.
type AccountSpace struct {
	Account string     `json:"account"`
	Space   Space      `json:"space"`
	Full    *time.Time `json:"full,omitempty" doc:"When it is full if it goes on filling as it has."`
	Why     string     `json:"why,omitempty"`
	Remedy  string     `json:"remedy,omitempty"`
}

// Spaces are those of all accounts, and together: accounts that share their
// space, such as two folders of one disk, count once.
type Spaces struct {
	Accounts []AccountSpace `json:"accounts"`
	Together Space          `json:"together"`
}

// Account is a linked account.
type Account struct {
	Name     string            `json:"name"`
	Address  string            `json:"address"`
	Provider string            `json:"provider"`
	Options  map[string]string `json:"options"`
	Start    string            `json:"start,omitempty"`
	Linked   time.Time         `json:"linked"`
	ReadOnly bool              `json:"read_only"`
	Site     string            `json:"site,omitempty" doc:"Site whose workers reach it; empty for what the service reaches."`
	State    string            `json:"state" enum:"linked,unreachable,sign-in-expired,suspended" doc:"The state at the last check."`
	Why      string            `json:"why,omitempty" doc:"Why it is unreachable or its sign-in has expired."`
	Remedy   string            `json:"remedy,omitempty"`
	Seen     *time.Time        `json:"seen,omitempty" doc:"Time of the last answer."`
	Warnings []Warning         `json:"warnings,omitempty" doc:"Upcoming problems."`
	// Found is what was found when it was reached last; only after a link
	// or a check.
	Found *Found `json:"found,omitempty"`
	Owner string `json:"owner,omitempty" doc:"Owner at the time of linking."`
}

// Found is what was found at an account.
type Found struct {
	Owner   string   `json:"owner,omitempty"`
	Space   Space    `json:"space"`
	Folders []string `json:"folders" doc:"The first folders at its start."`
	Areas   []string `json:"areas,omitempty" doc:"Areas that the sign-in reaches, if several."`
	New     bool     `json:"new,omitempty" doc:"The place was made; with try, it would be."`
}

// Session is a sign-in of the console.
type Session struct {
	ID      string     `json:"id"`
	User    string     `json:"user" doc:"The user's name."`
	Started time.Time  `json:"started"`
	Seen    *time.Time `json:"seen,omitempty" doc:"Last use, to within five minutes."`
	Ends    *time.Time `json:"ends,omitempty"`
	From    string     `json:"from,omitempty" doc:"Network address of the sign-in."`
	Client  string     `json:"client,omitempty" doc:"User agent of the browser."`
	Current bool       `json:"current" doc:"The session that asks."`
}

// NewToken is an owner's token that was just made.
type NewToken struct {
	Token string `json:"token" doc:"The token. It is also in owner.token of the data folder, and nowhere else."`
}
