package contract

// Copy is what is to be copied to where.
type Copy struct {
	From []string `json:"from" minItems:"1" doc:"Addresses of files and folders."`
	To   string   `json:"to" doc:"The address of the folder into which each goes under its own name."`
	Rules
}

// Rules say what is taken, and how. All may be left away.
type Rules struct {
	Clash     string `json:"clash,omitempty" doc:"Where both sides hold different contents: keep-both (the default), newer, source, leave or ask."`
	Names     string `json:"names,omitempty" doc:"What is done about names that the target cannot hold: translate (the default) or refuse."`
	As        string `json:"as,omitempty" doc:"A template of the names below the target, of {name}, {stem}, {ext}, {folder}, {account}, {date:%Y-%m} and {run:%Y-%m-%d}; slashes part folders."`
	Documents string `json:"documents,omitempty" doc:"What documents that exist only inside a service are exported as, by class: text=odt+pdf,sheet=ods. The default of each kind unless given."`
	Proof     string `json:"proof,omitempty" doc:"How what arrived is proven: hash (the default; read back where the target tells none), size or readback."`

	Identical string `json:"identical,omitempty" doc:"Of several sources that are consolidated: identical files once (where the sources are merged, unless given), or each."`

	LeaveOut    []string `json:"leave_out,omitempty" doc:"Patterns of what is left out, in the gitignore syntax."`
	Only        []string `json:"only,omitempty" doc:"Patterns of what alone is taken, in the gitignore syntax."`
	Types       []string `json:"types,omitempty" doc:"Types of files that alone are taken: documents, pictures, sound, film."`
	SmallerThan string   `json:"smaller_than,omitempty" doc:"Only files below a size, such as 2GiB."`
	LargerThan  string   `json:"larger_than,omitempty" doc:"Only files above a size."`
	NewerThan   string   `json:"newer_than,omitempty" doc:"Only files changed after a date (2020-01-31) or within an age (36h, 30d, 8w, 6mo, 2y)."`
	OlderThan   string   `json:"older_than,omitempty" doc:"Only files changed before a date or an age."`
	OnlyChanged bool     `json:"only_changed,omitempty" doc:"Only what has changed since an earlier run brought it, wherever that put it; with a template that gives each run a folder of its own."`

	Tries  int    `json:"tries,omitempty" doc:"How often an item is tried before it fails; 5 unless given."`
	Within string `json:"within,omitempty" doc:"How long an item is tried, such as 2h."`
	Pace   *Pace  `json:"pace,omitempty"`

	Priority string `json:"priority,omitempty" doc:"How it stands to other runs: low, normal (the default) or high."`
}

// Priority is how a run stands to others.
type Priority struct {
	Priority string `json:"priority" enum:"low,normal,high"`
}

// AtOnce is how many runs move at once; the others wait for their turn.
type AtOnce struct {
	Runs int `json:"runs" minimum:"1" maximum:"32"`
}

// Pace limits rates, such as 20MB/s; unlimited, or nothing, does not.
type Pace struct {
	Up    string            `json:"up,omitempty" doc:"To providers."`
	Down  string            `json:"down,omitempty" doc:"From providers."`
	Hours map[string]string `json:"hours,omitempty" doc:"Rates at hours of the week, in place of these: {\"mon-fri 08-18\": \"5MB/s\"}, or \"up 5MB/s, down 20MB/s\"."`
}

// Paces are the limits for everything, and for accounts by name.
type Paces struct {
	Overall  Pace            `json:"overall"`
	Accounts map[string]Pace `json:"accounts"`
}

// Release is what a person decides about a run that is held.
type Release struct {
	Clash string `json:"clash,omitempty" doc:"Of a run that asks what is kept where both sides had changed: keep-both, newer, source or leave."`
}
