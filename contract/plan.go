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
	Create          Count       `json:"create" doc:"New files."`
	Replace         Count       `json:"replace" doc:"Changed at the source, to be replaced."`
	KeepBoth        Count       `json:"keep_both" doc:"Conflicts that keep both files."`
	Look            Count       `json:"look" doc:"Files to compare by content first."`
	Left            Count       `json:"left" doc:"Conflicts that keep the target's file."`
	Folders         int64       `json:"folders" doc:"Empty folders to create."`
	Unchanged       Count       `json:"unchanged" doc:"Up to date."`
	Assumed         Count       `json:"assumed" doc:"Up-to-date files that were equal by size and time only."`
	Ask             Count       `json:"ask" doc:"Conflicts to be decided by a person."`
	Excluded        Count       `json:"excluded" doc:"Excluded files."`
	FoldersExcluded int64       `json:"folders_excluded" doc:"Excluded folders; their content is not counted."`
	Taken           Count       `json:"taken" doc:"With a filter: files at the sources that it takes."`
	TakenFirst      []string    `json:"taken_first" doc:"With a filter: the first files that it takes."`
	ExcludedFirst   []string    `json:"excluded_first" doc:"With a filter: the first files and folders that it excludes."`
	Inside          Count       `json:"inside" doc:"Files to write that are copied inside the target."`
	Twice           Count       `json:"twice" doc:"Files to write that are identical to an earlier one by reported hash, and kept once."`
	Alike           Count       `json:"alike" doc:"Files to write with the size of an earlier one; identical ones are kept once."`
	Skipped         Count       `json:"skipped" doc:"Links, sockets and devices."`
	Refused         Count       `json:"refused" doc:"Not allowed at the target."`
	Conflicts       int64       `json:"conflicts"`
	Moving          Count       `json:"moving" doc:"Files to write, at most."`
	Blockers        []Blocker   `json:"blockers" doc:"The first hundred items not allowed at the target."`
	Exports         []Exporting `json:"exports" doc:"Exported documents and their formats."`

	Translated   Count       `json:"translated" doc:"Files to write with a translated name."`
	Names        []Renaming  `json:"names" doc:"The first hundred of these."`
	Refusals     []Refusal   `json:"refusals" doc:"Reasons why items are not allowed at the target."`
	Verification []Verifying `json:"verification" doc:"How transferred files are verified."`

	Remove         Count             `json:"remove" doc:"Files to delete, including moved ones."`
	FoldersRemoved int64             `json:"folders_removed" doc:"Folders to delete."`
	Moved          Count             `json:"moved" doc:"Files to delete that have moved."`
	Back           Count             `json:"back" doc:"Two-way: items from the target to the source."`
	Older          Count             `json:"older" doc:"Files to replace with older versions."`
	Removals       []string          `json:"removals" doc:"The first hundred files to delete."`
	Makes          []string          `json:"makes" doc:"Missing targets that are created."`
	Held           *Holding          `json:"held,omitempty" doc:"Why the run would be held."`
	Seconds        float64           `json:"seconds" doc:"Estimated seconds; -1 if unknown."`
	Basis          string            `json:"basis,omitempty" doc:"What the estimate is based on."`
	Requests       []AccountRequests `json:"requests" doc:"Estimated requests, by account; accounts on this machine take none."`
	Ways           []string          `json:"ways,omitempty" doc:"Which way the bytes take, in words, where workers copy or an account is at a site."`
	Free           int64             `json:"free" doc:"Free bytes at the target; -1 is unknown."`
}

// AccountRequests is how many requests an account is expected to be sent.
type AccountRequests struct {
	Account  string `json:"account"`
	Requests int64  `json:"requests"`
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
