package contract

import (
	"time"

	"deftheron/core/run"
)

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

// RunWorker is what a worker has copied for a run.
type RunWorker struct {
	Name  string `json:"name"`
	Items int64  `json:"items" doc:"Without files of which it copied parts."`
	Bytes int64  `json:"bytes"`
	Now   int64  `json:"now" doc:"Files that it has in its hands."`
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
	Workers    []RunWorker `json:"workers,omitempty" doc:"Workers that have copied for the run. The rest was copied by the service."`
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
