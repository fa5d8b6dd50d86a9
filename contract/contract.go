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
	Cause  string `json:"cause,omitempty" doc:"The cause's code."`
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
}

// Provider is a kind of place that accounts can be at.
type Provider struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Options []Option `json:"options"`
}

// Link is what an account is linked with.
type Link struct {
	Provider string            `json:"provider"`
	Name     string            `json:"name"`
	Options  map[string]string `json:"options,omitempty"`
	Start    string            `json:"start,omitempty" doc:"The folder of the place that becomes the account's start."`
	Secret   string            `json:"secret,omitempty"`
}

// Space is how much an account holds; -1 is unknown.
type Space struct {
	Used  int64 `json:"used"`
	Free  int64 `json:"free"`
	Total int64 `json:"total"`
}

// Account is a linked account.
type Account struct {
	Name     string            `json:"name"`
	Address  string            `json:"address"`
	Provider string            `json:"provider"`
	Options  map[string]string `json:"options"`
	Start    string            `json:"start,omitempty"`
	Linked   time.Time         `json:"linked"`
	// Found is what was found when it was reached last; only after a link
	// or a check.
	Found *Found `json:"found,omitempty"`
}

// Found is what was found at an account.
type Found struct {
	Owner   string   `json:"owner,omitempty"`
	Space   Space    `json:"space"`
	Folders []string `json:"folders" doc:"The first folders at its start."`
}

// Entry is one entry of the tree.
type Entry struct {
	Name     string     `json:"name"`
	Address  string     `json:"address"`
	Kind     string     `json:"kind" enum:"folder,file,document,other"`
	Size     int64      `json:"size" doc:"In bytes; -1 is unknown, 0 for folders."`
	Modified *time.Time `json:"modified"`
	Revision string     `json:"revision,omitempty"`
	Hashes   []string   `json:"hashes,omitempty" doc:"KIND=HEXADECIMAL"`
	ID       string     `json:"id,omitempty"`
}

// Page is a page of a folder.
type Page struct {
	Entries []Entry `json:"entries"`
	Next    string  `json:"next,omitempty" doc:"The cursor of the next page; empty at the end."`
}

// Copy is what is to be copied to where.
type Copy struct {
	From  []string `json:"from" minItems:"1" doc:"Addresses of files and folders."`
	To    string   `json:"to" doc:"The address of the folder into which each goes under its own name."`
	Clash string   `json:"clash,omitempty" doc:"keep-both (the default), leave or source."`
}

// Started is a run that was started.
type Started struct {
	Run string `json:"run"`
	Job string `json:"job"`
}

// Count is a number of files and their bytes.
type Count struct {
	Items int64 `json:"items"`
	Bytes int64 `json:"bytes"`
}

// Plan is what a copy would do.
type Plan struct {
	Routes    []Route   `json:"routes"`
	Create    Count     `json:"create" doc:"To be written where nothing is."`
	Replace   Count     `json:"replace" doc:"Changed at the source since, to be written anew."`
	KeepBoth  Count     `json:"keep_both" doc:"Clashes that keep both."`
	Look      Count     `json:"look" doc:"To be compared by content first."`
	Left      Count     `json:"left" doc:"Clashes that are left."`
	Folders   int64     `json:"folders" doc:"Empty folders to be made."`
	Unchanged Count     `json:"unchanged" doc:"In step already."`
	Skipped   Count     `json:"skipped" doc:"Links, sockets and devices, which hold nothing of their own."`
	Refused   Count     `json:"refused" doc:"Cannot be held by the target."`
	Clashes   int64     `json:"clashes"`
	Moving    Count     `json:"moving" doc:"What will be written, at most."`
	Blockers  []Blocker `json:"blockers" doc:"What the target cannot hold: the first hundred."`
}

// Blocker is one thing that a plan found cannot be done.
type Blocker struct {
	Address string `json:"address"`
	Cause   string `json:"cause"`
	Why     string `json:"why"`
	Remedy  string `json:"remedy"`
}

// Route is a source and a target.
type Route struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// ItemCounts count a run's items by state.
type ItemCounts struct {
	Done      int64 `json:"done"`
	Skipped   int64 `json:"skipped"`
	Failed    int64 `json:"failed"`
	Waiting   int64 `json:"waiting"`
	Unchanged int64 `json:"unchanged" doc:"In step already; these are counted and not listed."`
}

// ByteCounts are those that have moved, and all that are to.
type ByteCounts struct {
	Moved int64 `json:"moved"`
	Total int64 `json:"total"`
}

// Flying is an item on its way.
type Flying struct {
	Address string `json:"address"`
	Size    int64  `json:"size"`
	Moved   int64  `json:"moved"`
}

// Now is what a run does now; only of one that is running.
type Now struct {
	Rate      float64  `json:"rate"`
	ItemsRate float64  `json:"items_rate" doc:"Items a second."`
	Left      float64  `json:"left" doc:"Seconds; -1 while it cannot be told."`
	Flying    []Flying `json:"flying"`
}

// Run is one execution of a job.
type Run struct {
	ID            string     `json:"id"`
	Job           string     `json:"job"`
	State         string     `json:"state" enum:"queued,running,paused,held,done,partial,failed,cancelled"`
	Cause         string     `json:"cause,omitempty"`
	Why           string     `json:"why,omitempty"`
	Remedy        string     `json:"remedy,omitempty"`
	Routes        []Route    `json:"routes"`
	Clash         string     `json:"clash"`
	Planned       bool       `json:"planned" doc:"All is listed, and the totals are final."`
	Items         ItemCounts `json:"items"`
	Bytes         ByteCounts `json:"bytes"`
	Interruptions int64      `json:"interruptions" doc:"How often the service ended meanwhile."`
	Created       time.Time  `json:"created"`
	Started       *time.Time `json:"started"`
	Ended         *time.Time `json:"ended"`
	Now           *Now       `json:"now,omitempty"`
}

// Over reports whether the run has ended.
func (r Run) Over() bool { return r.Ended != nil }

// RunPage is a page of runs, newest first.
type RunPage struct {
	Runs []Run  `json:"runs"`
	Next string `json:"next,omitempty"`
}

// Item is one file or folder of a run.
type Item struct {
	Seq      int64      `json:"seq"`
	Address  string     `json:"address" doc:"At the source."`
	Target   string     `json:"target" doc:"At the target, as it is, or was to be."`
	Kind     string     `json:"kind"`
	Size     int64      `json:"size"`
	State    string     `json:"state" enum:"waiting,done,skipped,failed"`
	Cause    string     `json:"cause"`
	Meaning  string     `json:"meaning,omitempty"`
	Remedy   string     `json:"remedy"`
	Why      string     `json:"why,omitempty" doc:"The error's own words."`
	Proof    string     `json:"proof,omitempty"`
	Attempts int        `json:"attempts,omitempty"`
	Ended    *time.Time `json:"ended,omitempty"`
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
}

// Rates are those of everything that moved over the last ten minutes, oldest
// first, one for every two seconds.
type Rates struct {
	Rates []float64 `json:"rates"`
}
