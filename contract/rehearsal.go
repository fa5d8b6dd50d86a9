package contract

import (
	"time"

	"deftheron/core/job"
)

// NewRehearsal is a rehearsal to be begun.
type NewRehearsal struct {
	Files int       `json:"files,omitempty" minimum:"0" doc:"Files chosen at random, in addition to the newest and the largest: 20 unless given."`
	All   bool      `json:"all,omitempty" doc:"Restore all files."`
	At    time.Time `json:"at,omitzero" doc:"Restore what was there at this time; now unless given."`
	Seed  int64     `json:"seed,omitempty" minimum:"0" maximum:"9007199254740991" doc:"Seed of the choice; any unless given."`
}

// Rehearsal is the certificate of a rehearsed restore.
type Rehearsal struct {
	Number     int64           `json:"number"`
	Job        string          `json:"job"`
	State      string          `json:"state" enum:"running,passed,failed"`
	At         time.Time       `json:"at" doc:"The state that was restored."`
	Started    time.Time       `json:"started"`
	Ended      *time.Time      `json:"ended,omitempty"`
	Seed       int64           `json:"seed" doc:"The same seed chooses the same of the same files."`
	Everything bool            `json:"everything" doc:"All files were restored, not a choice of them."`
	Files      int64           `json:"files" doc:"Files that were restored and compared."`
	Bytes      int64           `json:"bytes"`
	OfFiles    int64           `json:"of_files" doc:"All files that there were."`
	OfBytes    int64           `json:"of_bytes"`
	BySize     int64           `json:"by_size" doc:"Of those compared, how many had no recorded hash: their size alone was compared."`
	Failed     int64           `json:"failed"`
	Why        string          `json:"why,omitempty" doc:"Why the rehearsal broke off."`
	Outcomes   []RehearsedFile `json:"outcomes" doc:"The chosen files; if all were restored, those that failed."`
}

// RehearsedFile is what became of one file.
type RehearsedFile struct {
	Address string `json:"address"`
	Size    int64  `json:"size"`
	Chosen  string `json:"chosen" enum:"newest,largest,random,all"`
	Hash    string `json:"hash,omitempty" doc:"The recorded hash that it was compared with, as KIND=HEXADECIMAL."`
	Why     string `json:"why,omitempty" doc:"Why it failed."`
}

// Rehearsals are those of a job, newest first.
type Rehearsals struct {
	Rehearsals []Rehearsal  `json:"rehearsals"`
	Due        *time.Time   `json:"due,omitempty" doc:"When the next is due."`
	Schedule   job.Rehearse `json:"schedule"`
}

// RehearsalWarning is a job whose last rehearsal failed, or whose next is overdue.
type RehearsalWarning struct {
	Job  string     `json:"job"`
	Last *Rehearsal `json:"last,omitempty"`
	Due  *time.Time `json:"due,omitempty" doc:"When the overdue rehearsal was due."`
}
