// Package contract holds the types that the service's API and its clients
// exchange, as JSON. Sizes are in bytes, times in RFC 3339, rates in bytes a
// second, durations in seconds. Addresses are of the form /account/folder/name.
package contract

import (
	"encoding/base64"
	"strings"
	"time"
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
	// ErrorID is of a mistake of the service's own.
	ErrorID string `json:"error_id,omitempty" doc:"Of an internal error: what its log entry is found by."`
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
	Role     string `json:"role"`
	Kind     string `json:"kind" doc:"By what it is signed in: owner (a token) or session (the console)."`
	Instance string `json:"instance" doc:"The id of this service's data folder."`
	Version  string `json:"version"`
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
	File     bool     `json:"file,omitempty" doc:"It is the content of a file, which is sealed with the secret."`
}

// Provider is a kind of place that accounts can be at.
type Provider struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Options []Option `json:"options"`
	// Consents are the ways in which a person can agree at the provider; none
	// where accounts are linked with a secret.
	Consents   []string `json:"consents" enum:"page,device,paste" doc:"The ways in which a person can agree at the provider, the best first; none where accounts are linked with a secret."`
	Behind     string   `json:"behind,omitempty" doc:"The option of which a sign-in leads to several: share or bucket."`
	Introduced string   `json:"introduced,omitempty" doc:"The option that holds a server to what it shows before anybody signs in."`
	About      string   `json:"about,omitempty"`
	Declared   bool     `json:"declared" doc:"It is described by a provider definition."`
	Shipped    bool     `json:"shipped" doc:"It is part of the program."`
	Registered string   `json:"registered,omitempty" doc:"The client id of one's own app registration, in place of the provider's default."`
	Definition string   `json:"definition,omitempty" doc:"The text of the definition, where one provider is asked for."`
}

// Link is what an account is linked with.
type Link struct {
	Provider string            `json:"provider"`
	Name     string            `json:"name"`
	Options  map[string]string `json:"options,omitempty"`
	Start    string            `json:"start,omitempty" doc:"The folder of the place that becomes the account's start."`
	Secret   string            `json:"secret,omitempty"`
	Files    map[string]string `json:"files,omitempty" doc:"The contents of files that the provider asks for, such as a private key, by the names of their options."`
	ReadOnly bool              `json:"read_only,omitempty" doc:"Nothing can be written there by any way."`
	Again    bool              `json:"again,omitempty" doc:"A link of that name has ended, and its history goes on."`
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
	Account string `json:"account"`
	Space   Space  `json:"space"`
	Why     string `json:"why,omitempty"`
	Remedy  string `json:"remedy,omitempty"`
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
	State    string            `json:"state" enum:"linked,unreachable,sign-in-expired,suspended" doc:"How it was when it was asked last."`
	Why      string            `json:"why,omitempty" doc:"Why it is unreachable or its sign-in has expired."`
	Remedy   string            `json:"remedy,omitempty"`
	Seen     *time.Time        `json:"seen,omitempty" doc:"When it last answered."`
	Warnings []Warning         `json:"warnings,omitempty" doc:"What is going to stand in the way."`
	// Found is what was found when it was reached last; only after a link
	// or a check.
	Found *Found `json:"found,omitempty"`
	Owner string `json:"owner,omitempty" doc:"Whom it belonged to when it was linked."`
}

// Found is what was found at an account.
type Found struct {
	Owner   string   `json:"owner,omitempty"`
	Space   Space    `json:"space"`
	Folders []string `json:"folders" doc:"The first folders at its start."`
	Areas   []string `json:"areas,omitempty" doc:"The areas that the sign-in leads to, where there are several."`
}

// Entry is one entry of the tree.
type Entry struct {
	Name     string     `json:"name"`
	Address  string     `json:"address"`
	Kind     string     `json:"kind" enum:"folder,file,document,other"`
	Document string     `json:"document,omitempty" doc:"Of a document: what kind it is."`
	Exports  []string   `json:"exports,omitempty" doc:"Of a document: the formats that it can be exported as, the default first."`
	Size     int64      `json:"size" doc:"In bytes; -1 is unknown, 0 for folders."`
	Modified *time.Time `json:"modified"`
	Revision string     `json:"revision,omitempty"`
	Hashes   []string   `json:"hashes,omitempty" doc:"KIND=HEXADECIMAL"`
	ID       string     `json:"id,omitempty"`
	State    string     `json:"state,omitempty" doc:"Of an account: linked, unreachable or sign-in-expired."`
	ReadOnly bool       `json:"read_only,omitempty" doc:"Of an account that nothing can be written to."`
}

// Page is a page of a folder.
type Page struct {
	Entries []Entry `json:"entries"`
	// Listed is when the provider was asked: a listing may be some seconds old.
	Listed time.Time `json:"listed"`
	Next   string    `json:"next,omitempty" doc:"The cursor of the next page; empty at the end."`
}

// NewFolder is a folder to be made.
type NewFolder struct {
	Address string   `json:"address"`
	Names   []string `json:"names,omitempty" doc:"Steps below the address, as they are, with nothing escaped."`
	Parents bool     `json:"parents,omitempty" doc:"Make the folders that it is in, too, and be content if it is there."`
}

// Move is what is to be moved to where.
type Move struct {
	From []string `json:"from" minItems:"1" doc:"Addresses of files and folders."`
	To   string   `json:"to,omitempty" doc:"The address of the folder into which each goes."`
	Name string   `json:"name,omitempty" doc:"The name that a single one is to have there; else each keeps its own."`
	As   string   `json:"as,omitempty" doc:"In place of to and name: the address that a single one is to have."`
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
	Agreed    Quantity `json:"agreed" doc:"What was counted. Where there is more by now, nothing more is removed."`
}

// Removed is what a removal came to.
type Removed struct {
	Quantity
	Trash  int64     `json:"trash" doc:"Entries that can be restored from the provider's trash."`
	Kept   int64     `json:"kept" doc:"Entries that could not be removed."`
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
	Name     string   `json:"name,omitempty" doc:"Relative to the two addresses."`
	Kind     string   `json:"kind,omitempty"`
	Outcome  string   `json:"outcome,omitempty" enum:"only-here,only-there,differing,equal,untold,unreadable"`
	Evidence string   `json:"evidence,omitempty" doc:"On what it rests: presence, hash, size, size and time, pair, reading."`
	Here     *Entry   `json:"here,omitempty"`
	There    *Entry   `json:"there,omitempty"`
	Why      string   `json:"why,omitempty"`
	Summary  *Summary `json:"summary,omitempty"`
	Problem  *Problem `json:"problem,omitempty" doc:"Why the comparison broke off; there is no summary then."`
}

// Summary counts a comparison.
type Summary struct {
	OnlyHere   Count            `json:"only_here"`
	OnlyThere  Count            `json:"only_there"`
	Differing  Count            `json:"differing"`
	Equal      Count            `json:"equal"`
	Untold     Count            `json:"untold" doc:"Of the same size, with no evidence that both sides tell."`
	Unreadable Count            `json:"unreadable"`
	Folders    int64            `json:"folders" doc:"On both sides."`
	Evidence   map[string]int64 `json:"evidence" doc:"How many files are equal on which evidence."`
}

// Same reports whether both sides hold the same, as far as can be told.
func (s Summary) Same() bool {
	return s.OnlyHere.Items+s.OnlyThere.Items+s.Differing.Items+s.Untold.Items+s.Unreadable.Items == 0
}

// Retried is a run that was taken up again.
type Retried struct {
	Items int64 `json:"items" doc:"How many are tried again."`
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
	Removed  int64 `json:"removed" doc:"Of those done: files and folders that were removed."`
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
	Left      float64  `json:"left" doc:"Seconds; -1 while it cannot be told."`
	Flying    []Flying `json:"flying"`
	Away      []Away   `json:"away,omitempty" doc:"The accounts that it waits for, while the rest goes on."`
	Slowed    []Slowed `json:"slowed,omitempty" doc:"The accounts whose services asked to slow down."`
}

// Slowed is an account whose service allows no more requests.
type Slowed struct {
	Account string  `json:"account"`
	Rate    float64 `json:"rate" doc:"Requests a second that it allows, as far as was learned."`
}

// Away is an account that a run waits for.
type Away struct {
	Account string     `json:"account"`
	Since   time.Time  `json:"since"`
	Until   *time.Time `json:"until,omitempty" doc:"How long it is waited for; none where a person is to mend it."`
	Cause   string     `json:"cause"`
	Why     string     `json:"why"`
}

// Run is one execution of a job.
type Run struct {
	ID        string   `json:"id"`
	Job       string   `json:"job"`
	Type      string   `json:"type" doc:"Of the job."`
	Step      string   `json:"step,omitempty" doc:"Of a migration, which of its steps it is."`
	Waits     string   `json:"waits,omitempty" doc:"Of a migration, what a person is waited for, when the run has ended."`
	StartedBy string   `json:"started_by,omitempty" doc:"What had it begin."`
	Removing  Count    `json:"removing" doc:"Files that it removes, as planned."`
	State     string   `json:"state" enum:"queued,running,paused,held,done,partial,failed,cancelled"`
	Cause     string   `json:"cause,omitempty"`
	Why       string   `json:"why,omitempty"`
	Remedy    string   `json:"remedy,omitempty"`
	Commands  []string `json:"commands,omitempty" doc:"Commands of a terminal that do what the remedy says."`
	Routes    []Route  `json:"routes"`
	Settings
	Average         float64    `json:"average" doc:"Bytes a second since it began."`
	Excluded        Count      `json:"excluded" doc:"Files that the rules leave out; these are counted and not listed."`
	Assumed         Count      `json:"assumed" doc:"Of those up to date: there before, and found equal by size and time alone; their contents were not compared."`
	FoldersExcluded int64      `json:"folders_excluded" doc:"Folders that the rules leave out, with all that is in them."`
	Inside          Count      `json:"inside" doc:"Copied inside the target, of what is planned."`
	Clears          bool       `json:"clears" doc:"A move: what is verified at the target is removed at the source."`
	Watching        bool       `json:"watching,omitempty" doc:"Everything is up to date, and it waits for changes."`
	Planned         bool       `json:"planned" doc:"All is listed, and the totals are final."`
	Items           ItemCounts `json:"items"`
	Bytes           ByteCounts `json:"bytes"`
	Interruptions   int64      `json:"interruptions" doc:"How often the service ended meanwhile."`
	Created         time.Time  `json:"created"`
	Started         *time.Time `json:"started"`
	Ended           *time.Time `json:"ended"`
	Now             *Now       `json:"now,omitempty"`
}

// Over reports whether the run has ended.
func (r Run) Over() bool { return r.Ended != nil }

// Settled reports whether nothing more comes of the run automatically: it has ended, or
// is held until a person has mended something.
func (r Run) Settled() bool { return r.Over() || r.State == "held" }

// RunPage is a page of runs, newest first.
type RunPage struct {
	Runs []Run  `json:"runs"`
	Next string `json:"next,omitempty"`
}

// Item is one file or folder of a run.
type Item struct {
	Seq          int64      `json:"seq"`
	Address      string     `json:"address" doc:"At the source."`
	Target       string     `json:"target" doc:"At the target, as it is, or was to be."`
	Action       string     `json:"action" doc:"What is to be done, or was: create, replace, keep-both, make-folder, look, ask, remove, skip, refuse."`
	Kind         string     `json:"kind"`
	Size         int64      `json:"size"`
	State        string     `json:"state" enum:"waiting,done,skipped,failed"`
	Cause        string     `json:"cause"`
	Meaning      string     `json:"meaning,omitempty"`
	Remedy       string     `json:"remedy"`
	Why          string     `json:"why,omitempty" doc:"The error's own words."`
	Verification string     `json:"verification,omitempty"`
	Attempts     int        `json:"attempts,omitempty"`
	Ended        *time.Time `json:"ended,omitempty"`
}

// ItemPage is a page of a run's items.
type ItemPage struct {
	Items []Item `json:"items"`
	Next  string `json:"next,omitempty"`
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
	Rate float64 `json:"rate" doc:"Of everything that moves."`
	Runs []Run   `json:"runs" doc:"Those that are running."`
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
	Started time.Time  `json:"started"`
	Seen    *time.Time `json:"seen,omitempty" doc:"When it was used last, to within five minutes."`
	Ends    *time.Time `json:"ends,omitempty"`
	From    string     `json:"from,omitempty" doc:"The address that it was begun from."`
	Client  string     `json:"client,omitempty" doc:"What the browser said to be."`
	Current bool       `json:"current" doc:"It is the one that asks."`
}

// NewToken is an owner's token that was just made.
type NewToken struct {
	Token string `json:"token" doc:"It is in owner.token of the data folder as well, and nowhere else."`
}
