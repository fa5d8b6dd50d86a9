package contract

import "time"

// JobSpec is a job as a person writes it.
type JobSpec struct {
	Name   string  `json:"name" doc:"Lower-case letters, digits and hyphens."`
	Type   string  `json:"type" enum:"copy,mirror,two-way,migrate,consolidate"`
	Routes []Route `json:"routes" minItems:"1" doc:"What is at from appears as to."`
	When   When    `json:"when,omitzero"`
	Rules  Rules   `json:"rules,omitzero"`
	// Deletions and Brake are of jobs that remove.
	Deletions string `json:"deletions,omitempty" doc:"What a removal means for the other side: retire (the default: with a way back), follow or ignore."`
	Brake     *Brake `json:"brake,omitempty" doc:"How much a run may remove or write over without a person's word; deletions 10%, overwrites 25%, older 0 unless given."`
}

// When is when a job runs by itself; nothing: when a person starts it.
type When struct {
	Continuous bool   `json:"continuous,omitempty" doc:"As soon as something changes."`
	Now        bool   `json:"now,omitempty" doc:"Once, as soon as the job is made."`
	At         string `json:"at,omitempty" doc:"Once, at 2026-12-01T22:00."`
	Every      string `json:"every,omitempty" doc:"So often: 15m, 6h, 2d."`
	Weekly     string `json:"weekly,omitempty" doc:"At hours of the week, and until others: mon-fri 22:00-06:00."`
	Cron       string `json:"cron,omitempty" doc:"Five fields, as in a crontab."`
	Zone       string `json:"zone,omitempty" doc:"The time zone of the times; the service's own unless given."`
	Hours      string `json:"hours,omitempty" doc:"The hours in which a run may go; outside them it pauses."`
}

// Brake is how much a run may lose: shares such as 10%, numbers of files, or none.
type Brake struct {
	Deletions  string `json:"deletions,omitempty"`
	Overwrites string `json:"overwrites,omitempty"`
	Older      string `json:"older,omitempty" doc:"Files that would be replaced by older versions."`
}

// Job is what is to be done, kept.
type Job struct {
	JobSpec
	State    string      `json:"state" enum:"active,suspended"`
	Sentence string      `json:"sentence" doc:"What the job makes true, in words."`
	Next     []time.Time `json:"next" doc:"The next moments at which it runs by itself."`
	Last     *Run        `json:"last,omitempty" doc:"Its last run."`
	Created  time.Time   `json:"created"`
	Changed  time.Time   `json:"changed"`
}

// Jobs are all jobs, by name.
type Jobs struct {
	Jobs []Job `json:"jobs"`
}

// JobFile is one or several jobs, as YAML.
type JobFile struct {
	Text string `json:"text"`
	Try  bool   `json:"try,omitempty" doc:"Say what would be made or changed, and stop there."`
}

// Loaded is what loading a job file made or changed.
type Loaded struct {
	Jobs []LoadedJob `json:"jobs"`
}

// LoadedJob is one of them.
type LoadedJob struct {
	Name    string   `json:"name"`
	Outcome string   `json:"outcome" enum:"made,changed,unchanged"`
	Changes []string `json:"changes" doc:"What differs, line by line."`
}
