package contract

import (
	"encoding/base64"
	"strings"
	"time"
)

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
