package contract

import (
	"time"

	"deftheron/core/job"
)

// Version is a change of a file, with what was there before it.
type Version struct {
	Change   string     `json:"change" enum:"created,overwritten,deleted,moved,superseded,thinned" doc:"What was done at that time. Before it the file was as follows; of superseded a later run has put the file into a folder of its own; of thinned the content is not kept any more."`
	At       time.Time  `json:"at" doc:"When it was done."`
	Since    *time.Time `json:"since,omitempty" doc:"From when on the file had been so, if known."`
	Size     int64      `json:"size" doc:"Bytes of the content before; 0 if there was none."`
	Modified *time.Time `json:"modified,omitempty"`
	Hash     string     `json:"hash,omitempty" doc:"Of the content, as KIND=HEXADECIMAL."`
	Kept     string     `json:"kept,omitempty" doc:"The address at which the content is kept."`
	Version  string     `json:"version,omitempty" doc:"The version of that address that it is, if the account keeps the versions of its files itself."`
	To       string     `json:"to,omitempty" doc:"The address that the file was moved to."`
	Run      string     `json:"run,omitempty"`
	Job      string     `json:"job,omitempty"`
	Locked   *time.Time `json:"locked,omitempty" doc:"Until when nobody can delete the version."`
	Enforced bool       `json:"enforced,omitempty" doc:"The store itself refuses to delete it until then."`
}

// PastChange is what one run, or one day of it, changed below a folder.
type PastChange struct {
	First   time.Time `json:"first" doc:"When the first of the changes was made."`
	Last    time.Time `json:"last" doc:"When the last was made."`
	Changes int64     `json:"changes" doc:"How many; 10000 is that or more."`
	Run     string    `json:"run,omitempty"`
	Job     string    `json:"job,omitempty"`
}

// Past is what is known of the past of an address.
type Past struct {
	Address  string       `json:"address"`
	Kind     string       `json:"kind" enum:"file,folder"`
	Versions []Version    `json:"versions" doc:"Of a file, newest first."`
	Changes  []PastChange `json:"changes" doc:"Of a folder, newest first."`
	Held     HistoryCount `json:"held" doc:"What the history of the whole account holds."`
}

// HistoryCount is how many versions there are of something, and their bytes.
type HistoryCount struct {
	Versions int64 `json:"versions"`
	Bytes    int64 `json:"bytes"`
}

// Restore is a request to restore an address as it was at a time.
type Restore struct {
	Address string    `json:"address" doc:"A file, a folder or a whole account."`
	At      time.Time `json:"at" doc:"The time whose state is restored."`
	To      string    `json:"to,omitempty" doc:"A folder to restore into, under the name of the address; where it was unless given."`
	Exact   bool      `json:"exact,omitempty" doc:"Also move to history what came since that time."`
}

// HistoryRules are rules for the versions that a job keeps.
type HistoryRules = job.History

// HistoryKeep says which versions are kept, and for how long.
type HistoryKeep = job.Keep
