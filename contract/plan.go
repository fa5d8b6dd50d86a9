package contract

// Count is a number of files and their bytes.
type Count struct {
	Items int64 `json:"items"`
	Bytes int64 `json:"bytes"`
}

// Exporting is how many documents of a kind are exported in a format.
type Exporting struct {
	Document string `json:"document"`
	Format   string `json:"format"`
	Items    int64  `json:"items"`
}

// Plan is what a copy would do.
type Plan struct {
	Type            string      `json:"type,omitempty" doc:"mirror or two-way, of a job that removes."`
	Routes          []Route     `json:"routes"`
	Create          Count       `json:"create" doc:"To be written where nothing is."`
	Replace         Count       `json:"replace" doc:"Changed at the source since, to be written again."`
	KeepBoth        Count       `json:"keep_both" doc:"Conflicts that keep both."`
	Look            Count       `json:"look" doc:"To be compared by content first."`
	Left            Count       `json:"left" doc:"Conflicts that are left."`
	Folders         int64       `json:"folders" doc:"Empty folders to be made."`
	Unchanged       Count       `json:"unchanged" doc:"Up to date."`
	Assumed         Count       `json:"assumed" doc:"Of those up to date: there before, and found equal by size and time alone; their contents were not compared."`
	Ask             Count       `json:"ask" doc:"Conflicts that a person is asked about."`
	Excluded        Count       `json:"excluded" doc:"Left out by the rules."`
	FoldersExcluded int64       `json:"folders_excluded" doc:"Left out by the rules, with all that is in them, which is not counted."`
	Inside          Count       `json:"inside" doc:"Of those to be written: copied inside the target, from what holds the same there."`
	Twice           Count       `json:"twice" doc:"Of those to be written: identical to one before them, as told hashes say, and there once."`
	Alike           Count       `json:"alike" doc:"Of those to be written: of the size of one before them; the identical ones of these are there once."`
	Skipped         Count       `json:"skipped" doc:"Links, sockets and devices, which hold nothing of their own."`
	Refused         Count       `json:"refused" doc:"Cannot be held by the target."`
	Conflicts       int64       `json:"conflicts"`
	Moving          Count       `json:"moving" doc:"What will be written, at most."`
	Blockers        []Blocker   `json:"blockers" doc:"What the target cannot hold: the first hundred."`
	Exports         []Exporting `json:"exports" doc:"The documents that are exported, and as what."`

	Translated   Count       `json:"translated" doc:"Of those to be written: the target cannot hold the name, and gets another."`
	Names        []Renaming  `json:"names" doc:"The first hundred of these."`
	Refusals     []Refusal   `json:"refusals" doc:"Why some cannot be held, and how many."`
	Verification []Verifying `json:"verification" doc:"How what is written will be verified."`

	Remove         Count    `json:"remove" doc:"Files to be removed; those that have moved are among them."`
	FoldersRemoved int64    `json:"folders_removed" doc:"Folders to be removed."`
	Moved          Count    `json:"moved" doc:"Of those to be removed: at another place by then."`
	Back           Count    `json:"back" doc:"Of all: from the target to the source, where both are kept in sync."`
	Older          Count    `json:"older" doc:"Of those to be replaced: by older versions than were brought before."`
	Removals       []string `json:"removals" doc:"The first hundred of what is to be removed."`
	Makes          []string `json:"makes" doc:"Targets that are not there, and are made."`
	Held           *Holding `json:"held,omitempty" doc:"Why the safety limits would hold it."`
	Seconds        float64  `json:"seconds" doc:"How long it may take; -1 where nothing is known to tell by."`
	Basis          string   `json:"basis,omitempty" doc:"What the time is told by."`
	Free           int64    `json:"free" doc:"What the target has free, in bytes; -1 is unknown."`
}

// Holding is why a run is, or would be, held.
type Holding struct {
	Cause  string `json:"cause"`
	Why    string `json:"why"`
	Remedy string `json:"remedy"`
}

// Renaming is a name that is translated.
type Renaming struct {
	Address string `json:"address"`
	Target  string `json:"target"`
}

// Refusal is why some items cannot be held.
type Refusal struct {
	Cause   string `json:"cause"`
	Meaning string `json:"meaning"`
	Items   int64  `json:"items"`
	Bytes   int64  `json:"bytes"`
}

// Verifying is how items of one target are verified.
type Verifying struct {
	Account string `json:"account"`
	How     string `json:"how"`
}

// Blocker is one thing that a plan found cannot be done.
type Blocker struct {
	Address string `json:"address"`
	Cause   string `json:"cause"`
	Why     string `json:"why"`
	Remedy  string `json:"remedy"`
}
