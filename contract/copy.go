package contract

import "deftheron/core/job"

// Copy is what is to be copied to where.
type Copy struct {
	From []string `json:"from" minItems:"1" doc:"Addresses of files and folders."`
	To   string   `json:"to" doc:"The address of the folder into which each goes under its own name."`
	Also []string `json:"also,omitempty" doc:"Addresses of further folders: each file is read once and written to all."`
	job.Settings
}

// Priority is how a run stands to others.
type Priority struct {
	Priority string `json:"priority" enum:"low,normal,high"`
}

// AtOnce is how many runs move at once; the others wait for their turn.
type AtOnce struct {
	Runs int `json:"runs" minimum:"1" maximum:"32"`
}

// Bandwidths are the limits for everything, and for accounts by name.
type Bandwidths struct {
	Overall  Bandwidth            `json:"overall"`
	Accounts map[string]Bandwidth `json:"accounts"`
	Sites    map[string]Bandwidth `json:"sites" doc:"Limits of sites, as their networks see it: up is what leaves the site."`
}

// Approval is what a person decides about a run that is held.
type Approval struct {
	Conflict string `json:"conflict,omitempty" doc:"The decision about conflicts: keep-both, newer, source or target."`
}
