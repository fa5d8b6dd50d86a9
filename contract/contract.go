// Package contract holds the types that the service's API and its clients
// exchange, as JSON. Sizes are in bytes, times in RFC 3339, rates in bytes a
// second, durations in seconds. Addresses are of the form /account/folder/name.
package contract

import (
	"encoding/base64"
	"strings"
	"time"

	"deftheron/core/run"
)

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

// Entry is one entry of the tree.
type Entry struct {
	Name     string     `json:"name"`
	Address  string     `json:"address"`
	Kind     string     `json:"kind" enum:"folder,file,document,other"`
	Document string     `json:"document,omitempty" doc:"Documents: the kind."`
	Exports  []string   `json:"exports,omitempty" doc:"Documents: export formats, the default first."`
	Size     int64      `json:"size" doc:"Bytes; -1 is unknown, 0 for folders."`
	Modified *time.Time `json:"modified"`
	Revision string     `json:"revision,omitempty"`
	Hashes   []string   `json:"hashes,omitempty" doc:"KIND=HEXADECIMAL"`
	ID       string     `json:"id,omitempty"`
	Preview  bool       `json:"preview,omitempty" doc:"Files: a preview can be asked for."`
	State    string     `json:"state,omitempty" doc:"Accounts: linked, unreachable or sign-in-expired."`
	ReadOnly bool       `json:"read_only,omitempty" doc:"Accounts: read-only."`
	Tags     []string   `json:"tags,omitempty"`
	Comments int        `json:"comments,omitempty" doc:"How many comments it has."`
	Lock     *Lock      `json:"lock,omitempty" doc:"Who works on it."`
}

// Page is a page of a folder.
type Page struct {
	Entries []Entry `json:"entries"`
	// Listed is when the provider was asked: a listing may be some seconds old.
	Listed time.Time `json:"listed"`
	Next   string    `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// NewFolder is a folder to be made.
type NewFolder struct {
	Address string   `json:"address"`
	Names   []string `json:"names,omitempty" doc:"Names below the address, not escaped."`
	Parents bool     `json:"parents,omitempty" doc:"Create missing parents, and accept an existing folder."`
}

// Move is what is to be moved to where.
type Move struct {
	From []string `json:"from" minItems:"1" doc:"Addresses of files and folders."`
	To   string   `json:"to,omitempty" doc:"The address of the folder into which each goes."`
	Name string   `json:"name,omitempty" doc:"New name of a single entry."`
	As   string   `json:"as,omitempty" doc:"New address of a single entry, instead of to and name."`
}

// Moved is what a move came to: what was moved within its account, and the run
// that moves what goes to another.
type Moved struct {
	Moved []Route `json:"moved"`
	Run   string  `json:"run,omitempty"`
}

// Quantity is how much is at some addresses, themselves included.
type Quantity struct {
	Files   int64 `json:"files"`
	Folders int64 `json:"folders"`
	Others  int64 `json:"others" doc:"Links, sockets, devices."`
	Bytes   int64 `json:"bytes"`
}

// Addresses name entries of the tree.
type Addresses struct {
	Addresses []string `json:"addresses" minItems:"1"`
}

// RemovalPlan is what a removal would remove.
type RemovalPlan struct {
	Quantity
	Trash bool `json:"trash" doc:"It can be restored from the provider's trash."`
}

// Removal is what is to be removed, and how much of it was agreed to.
type Removal struct {
	Addresses []string `json:"addresses" minItems:"1"`
	Agreed    Quantity `json:"agreed" doc:"The agreed count. If there is more, nothing more is deleted."`
}

// Removed is what a removal came to.
type Removed struct {
	Quantity
	Trash  int64     `json:"trash" doc:"Entries that can be restored from the provider's trash."`
	Kept   int64     `json:"kept" doc:"Entries that could not be deleted."`
	Failed []Blocker `json:"failed" doc:"The first hundred of them."`
}

// Uploaded is a file that was written and verified.
type Uploaded struct {
	Entry
	Verification string `json:"verification"`
	// Received is the CRC64NVME, in hexadecimal, of what the service received.
	Received string `json:"received"`
}

// Compared is one line of a comparison: an entry, or, last, the Summary.
type Compared struct {
	Name     string   `json:"name,omitempty" doc:"Path below the two addresses."`
	Kind     string   `json:"kind,omitempty"`
	Outcome  string   `json:"outcome,omitempty" enum:"only-here,only-there,differing,equal,untold,unreadable"`
	Evidence string   `json:"evidence,omitempty" doc:"Evidence: presence, hash, size, size and time, pair, reading."`
	Here     *Entry   `json:"here,omitempty"`
	There    *Entry   `json:"there,omitempty"`
	Why      string   `json:"why,omitempty"`
	Summary  *Summary `json:"summary,omitempty"`
	Problem  *Problem `json:"problem,omitempty" doc:"Why the comparison stopped early; there is no summary then."`
}

// Summary counts a comparison.
type Summary struct {
	OnlyHere   Count            `json:"only_here"`
	OnlyThere  Count            `json:"only_there"`
	Differing  Count            `json:"differing"`
	Equal      Count            `json:"equal"`
	Untold     Count            `json:"untold" doc:"Same size, and no common hash or time."`
	Unreadable Count            `json:"unreadable"`
	Folders    int64            `json:"folders" doc:"On both sides."`
	Evidence   map[string]int64 `json:"evidence" doc:"Equal files by evidence."`
}

// Same reports whether both sides hold the same, as far as can be told.
func (s Summary) Same() bool {
	return s.OnlyHere.Items+s.OnlyThere.Items+s.Differing.Items+s.Untold.Items+s.Unreadable.Items == 0
}

// Retried is a run that was taken up again.
type Retried struct {
	Items int64 `json:"items" doc:"Items to be retried."`
}

// Cause is a code of why an item ended as it did.
type Cause struct {
	Cause   string `json:"cause"`
	Title   string `json:"title" doc:"A short name of the cause."`
	Meaning string `json:"meaning"`
	Remedy  string `json:"remedy"`
}

// Transfer is a file on its way to or from outside.
type Transfer struct {
	ID          string `json:"id" doc:"As the request named it."`
	Address     string `json:"address"`
	Upload      bool   `json:"upload"`
	Transferred int64  `json:"transferred"`
	Total       int64  `json:"total" doc:"-1 is unknown."`
}

// Started is a run that was started.
type Started struct {
	Run string `json:"run"`
	Job string `json:"job"`
}

// ItemCounts count a run's items by state.
type ItemCounts struct {
	Done     int64 `json:"done"`
	Skipped  int64 `json:"skipped"`
	Removed  int64 `json:"removed" doc:"Done items that were deletions."`
	Failed   int64 `json:"failed"`
	Waiting  int64 `json:"waiting"`
	UpToDate int64 `json:"up_to_date" doc:"Items that needed no transfer. They are counted and not listed."`
}

// ByteCounts count bytes: those transferred so far, and all that are to be.
type ByteCounts struct {
	Transferred int64 `json:"transferred"`
	Total       int64 `json:"total"`
}

// Flying is an item on its way.
type Flying struct {
	Address     string `json:"address"`
	Size        int64  `json:"size"`
	Transferred int64  `json:"transferred"`
}

// Now is what a run does now; only of one that is running.
type Now struct {
	Rate      float64  `json:"rate"`
	ItemsRate float64  `json:"items_rate" doc:"Items a second."`
	Left      float64  `json:"left" doc:"Seconds left; -1 if unknown."`
	Flying    []Flying `json:"flying"`
	Away      []Away   `json:"away,omitempty" doc:"Accounts that the run waits for while other routes continue."`
	Slowed    []Slowed `json:"slowed,omitempty" doc:"Accounts whose service asked to slow down."`
}

// Slowed is an account whose service allows no more requests.
type Slowed struct {
	Account string  `json:"account"`
	Rate    float64 `json:"rate" doc:"Learned limit in requests a second."`
}

// Away is an account that a run waits for.
type Away struct {
	Account string     `json:"account"`
	Since   time.Time  `json:"since"`
	Until   *time.Time `json:"until,omitempty" doc:"When waiting ends; none if a person has to act."`
	Cause   string     `json:"cause"`
	Why     string     `json:"why"`
}

// Run is one execution of a job.
type Run struct {
	ID         string      `json:"id"`
	Job        string      `json:"job"`
	Type       string      `json:"type" doc:"The type of the job."`
	Step       string      `json:"step,omitempty" doc:"Migrations: the step."`
	Waits      string      `json:"waits,omitempty" doc:"Migrations: what the job waits for after the run."`
	StartedBy  string      `json:"started_by,omitempty" doc:"What started the run."`
	Removing   Count       `json:"removing" doc:"Files that the run deletes, as planned."`
	State      run.State   `json:"state" enum:"queued,running,paused,held,done,partial,failed,cancelled"`
	Cause      string      `json:"cause,omitempty"`
	Why        string      `json:"why,omitempty"`
	Remedy     string      `json:"remedy,omitempty"`
	Commands   []string    `json:"commands,omitempty" doc:"Commands of a terminal that do what the remedy says."`
	Needs      run.Need    `json:"needs,omitempty" enum:"approval,decision,space,account" doc:"Held runs: what the run needs before it continues."`
	Actions    []run.Event `json:"actions" enum:"approve,resume,pause,retry,cancel" doc:"What can be done about the run in its state."`
	Routes     []Route     `json:"routes"`
	MoreRoutes int         `json:"more_routes,omitempty" doc:"Routes that are not shown: a run shows the first 50."`
	Settings
	Average         float64    `json:"average" doc:"Average rate in bytes a second."`
	Excluded        Count      `json:"excluded" doc:"Excluded files. They are counted and not listed."`
	Assumed         Count      `json:"assumed" doc:"Up-to-date files that were equal by size and time only."`
	FoldersExcluded int64      `json:"folders_excluded" doc:"Excluded folders, with their content."`
	Inside          Count      `json:"inside" doc:"Planned items that are copied inside the target."`
	Clears          bool       `json:"clears" doc:"A move: verified files are deleted at the source."`
	Watching        bool       `json:"watching,omitempty" doc:"Everything is up to date and the run waits for changes."`
	Planned         bool       `json:"planned" doc:"The plan is complete and the totals are final."`
	Items           ItemCounts `json:"items"`
	Bytes           ByteCounts `json:"bytes"`
	Interruptions   int64      `json:"interruptions" doc:"How often the service stopped during the run."`
	Created         time.Time  `json:"created"`
	Started         *time.Time `json:"started"`
	Ended           *time.Time `json:"ended"`
	Now             *Now       `json:"now,omitempty"`
}

// Settled reports whether nothing more comes of the run automatically: it has ended, or
// is held until a person has mended something.
func (r Run) Settled() bool { return r.State.Ended() || r.State == run.Held }

// RunPage is a page of runs, newest first.
type RunPage struct {
	Runs []Run  `json:"runs"`
	Next string `json:"next,omitempty"`
}

// Item is one file or folder of a run.
type Item struct {
	Seq          int64         `json:"seq"`
	Address      string        `json:"address" doc:"Address at the source."`
	Target       string        `json:"target" doc:"Address at the target, as it is or was planned."`
	Action       string        `json:"action" doc:"The action: create, replace, keep-both, make-folder, look, ask, remove, skip, refuse."`
	Kind         string        `json:"kind"`
	Size         int64         `json:"size"`
	State        string        `json:"state" enum:"waiting,done,skipped,failed"`
	Cause        string        `json:"cause"`
	Meaning      string        `json:"meaning,omitempty"`
	Remedy       string        `json:"remedy"`
	Why          string        `json:"why,omitempty" doc:"The original error."`
	Verification string        `json:"verification,omitempty"`
	Attempts     int           `json:"attempts,omitempty"`
	Ended        *time.Time    `json:"ended,omitempty"`
	Modified     *time.Time    `json:"modified,omitempty" doc:"When the file at the source was last changed."`
	Existing     *ExistingFile `json:"existing,omitempty" doc:"The file at the target when the run was planned."`
	Decision     string        `json:"decision,omitempty" doc:"The decision about the conflict of this item: keep-both, newer, source or target."`
}

// ExistingFile is a file at the target of an item.
type ExistingFile struct {
	Size     int64      `json:"size" doc:"Bytes; -1 is unknown."`
	Modified *time.Time `json:"modified,omitempty"`
}

// ItemDecision is a decision about the conflicts of some items of a run.
type ItemDecision struct {
	Items    []int64 `json:"items" minItems:"1" maxItems:"10000" doc:"The items, by seq."`
	Conflict string  `json:"conflict,omitempty" enum:"keep-both,newer,source,target" doc:"The decision; leave it out to take an earlier one back."`
}

// Decided is how many items a decision is about.
type Decided struct {
	Items int64 `json:"items"`
}

// ItemPage is a page of a run's items.
type ItemPage struct {
	Items []Item `json:"items"`
	Next  string `json:"next,omitempty"`
	// Searched is the seq up to which items were looked at.
	Searched int64 `json:"searched,omitempty" doc:"Items up to this seq were looked at; a page of a filter may have fewer items than the limit, and still have a next page."`
}

// CauseCount is how many items ended with a cause.
type CauseCount struct {
	State   string `json:"state"`
	Cause   string `json:"cause"`
	Meaning string `json:"meaning"`
	Remedy  string `json:"remedy"`
	Items   int64  `json:"items"`
	Bytes   int64  `json:"bytes"`
}

// Progress is what a live event of that name carries.
type Progress struct {
	Rate float64 `json:"rate" doc:"Total rate in bytes a second."`
	// Running are the ids of all of them, whichever are told of.
	Running []string `json:"running" doc:"Ids of all running runs."`
	Runs    []Run    `json:"runs" doc:"Running runs: those that the stream was asked for."`
	// Transfers are the files on their way to and from outside.
	Transfers []Transfer `json:"transfers"`
}

// Rates are those of everything that moved over the last ten minutes, oldest
// first, one for every two seconds.
type Rates struct {
	Rates []float64 `json:"rates"`
}

// EntityTag is a revision as the API's entity tag for it (RFC 9110, section
// 8.8.3).
func EntityTag(revision string) string {
	return `"` + base64.RawURLEncoding.EncodeToString([]byte(revision)) + `"`
}

// RevisionOfTag is the revision that an entity tag stands for; ok is false for
// one that is not of this API.
func RevisionOfTag(tag string) (revision string, ok bool) {
	decoded, err := base64.RawURLEncoding.DecodeString(strings.Trim(strings.TrimSpace(tag), `"`))
	return string(decoded), err == nil && len(decoded) > 0
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
