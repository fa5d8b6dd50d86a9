package contract

import "time"

// JobSpec is a job as a person writes it.
type JobSpec struct {
	Name      string  `json:"name" doc:"Lower-case letters, digits and hyphens."`
	Type      string  `json:"type" enum:"copy,mirror,two-way,migrate,consolidate"`
	Routes    []Route `json:"routes" minItems:"1" doc:"What is at from appears as to."`
	When      When    `json:"when,omitzero"`
	Rules     Rules   `json:"rules,omitzero"`
	Suspended bool    `json:"suspended,omitempty" doc:"Of a job that is made: it is not switched on yet."`
	// Deletions and Brake are of jobs that remove.
	Deletions string     `json:"deletions,omitempty" doc:"What a removal means for the other side: retire (the default: with a way back), follow or ignore."`
	Migrate   *Migrating `json:"migrate,omitempty" doc:"How a migration goes."`
	Arrivals  *Arrivals  `json:"arrivals,omitempty" doc:"How what arrives is taken."`
	Brake     *Brake     `json:"brake,omitempty" doc:"How much a run may remove or write over without a person's word; deletions 10%, overwrites 25%, older 0 unless given."`
}

// When is when a job runs by itself; nothing: when a person starts it.
type When struct {
	Continuous bool   `json:"continuous,omitempty" doc:"As soon as something changes."`
	Now        bool   `json:"now,omitempty" doc:"Once, as soon as the job is made."`
	At         string `json:"at,omitempty" doc:"Once, at 2026-12-01T22:00."`
	Every      string `json:"every,omitempty" doc:"So often: 15m, 6h, 2d."`
	Weekly     string `json:"weekly,omitempty" doc:"At hours of the week, and until others: mon-fri 22:00-06:00."`
	Cron       string `json:"cron,omitempty" doc:"Five fields, as in a crontab."`
	Arrival    string `json:"arrival,omitempty" doc:"file or folder: each that arrives at the source or changes, once it is complete, by a run of its own; of folders, those that are in the source itself."`
	Zone       string `json:"zone,omitempty" doc:"The time zone of the times; the service's own unless given."`
	Hours      string `json:"hours,omitempty" doc:"The hours in which a run may go; outside them it pauses."`
}

// Arrivals say how what arrives is taken.
type Arrivals struct {
	Rest   string `json:"rest,omitempty" doc:"How long nothing of it may have changed for it to be complete; 10s for a file, and 30s for a folder, unless given."`
	AtOnce int    `json:"at_once,omitempty" minimum:"0" maximum:"20" doc:"How many are transferred at a time; 2 unless given."`
}

// Arrival is a file or folder that arrived.
type Arrival struct {
	Address string    `json:"address"`
	State   string    `json:"state" enum:"resting,ready,queued,running,paused,held,done,partial,failed,cancelled" doc:"resting: not complete yet, as far as can be told; ready: it waits for its turn; else that of its run."`
	Run     string    `json:"run,omitempty"`
	Size    int64     `json:"size" doc:"In bytes, of a folder all that is taken of it."`
	Since   time.Time `json:"since" doc:"When it was first seen as it is."`
}

// ArrivalList is what arrived last, the latest first.
type ArrivalList struct {
	Arrivals []Arrival `json:"arrivals"`
}

// Arrived announces an arrival that is complete.
type Arrived struct {
	Address string `json:"address" minLength:"1" doc:"Of the file or folder, in a source of the job."`
}

// TryingArrival says what a rule for arrivals is tried on.
type TryingArrival struct {
	Job     *JobSpec `json:"job,omitempty" doc:"One that is not made yet; else that which is named."`
	Address string   `json:"address,omitempty" doc:"In place of the latest that matches."`
}

// TriedArrival is what a rule would do with an arrival.
type TriedArrival struct {
	Address string     `json:"address" doc:"What it was tried on."`
	Arrived *time.Time `json:"arrived,omitempty" doc:"When it was changed last, as the provider tells."`
	Matches bool       `json:"matches"`
	Why     string     `json:"why,omitempty" doc:"Why it does not match."`
	Targets []Renaming `json:"targets" doc:"The first hundred of what would be written, and where."`
	Plan    *Plan      `json:"plan,omitempty" doc:"What its run would do."`
}

// Brake is how much a run may lose: shares such as 10%, numbers of files, or none.
type Brake struct {
	Deletions  string `json:"deletions,omitempty"`
	Overwrites string `json:"overwrites,omitempty"`
	Older      string `json:"older,omitempty" doc:"Files that would be replaced by older versions."`
}

// Migrating says how far a migration goes by itself, and where it ends.
type Migrating struct {
	GoOn   string `json:"go_on,omitempty" enum:"survey,first-pass,catch-up,final-pass,clear" doc:"The last step that begins by itself; each waits for a person unless given, or, with a timetable, all up to the catch-up passes go by that."`
	Little int64  `json:"little,omitempty" minimum:"0" doc:"How few files a pass may still have had for catching up to be at its end; 20 unless given."`
	Clear  bool   `json:"clear,omitempty" doc:"Clear the source, in the end, of exactly what is proven to be at the target."`
}

// Migration is how far a migration has come.
type Migration struct {
	Next     string    `json:"next,omitempty" doc:"The step that comes next; empty when it is over."`
	Waits    bool      `json:"waits" doc:"A person has to start it."`
	Why      string    `json:"why,omitempty" doc:"Why it waits."`
	Sentence string    `json:"sentence" doc:"What comes next, in words."`
	Steps    []StepRun `json:"steps" doc:"The runs so far, the oldest first; of many, the last."`
	// Certificate is that of the last final pass.
	Certificate *Certificate `json:"certificate,omitempty" doc:"What the last final pass has proven."`
}

// StepRun is a run of a migration.
type StepRun struct {
	Step  string     `json:"step" enum:"survey,first-pass,catch-up,final-pass,clear,fetch"`
	Run   string     `json:"run"`
	State string     `json:"state"`
	Items int64      `json:"items" doc:"That it had to move, or to remove."`
	Moved int64      `json:"moved" doc:"Bytes."`
	Ended *time.Time `json:"ended,omitempty"`
}

// Starting is how a job is started.
type Starting struct {
	Step string `json:"step,omitempty" enum:"survey,first-pass,catch-up,final-pass,clear,fetch" doc:"Of a migration, in place of the step that comes next."`
}

// Job is what is to be done, kept.
type Job struct {
	JobSpec
	State     string      `json:"state" enum:"active,suspended"`
	Sentence  string      `json:"sentence" doc:"What the job makes true, in words."`
	Next      []time.Time `json:"next" doc:"The next moments at which it runs by itself."`
	Last      *Run        `json:"last,omitempty" doc:"Its last run."`
	Migration *Migration  `json:"migration,omitempty" doc:"How far it has come, of a migration."`
	Created   time.Time   `json:"created"`
	Changed   time.Time   `json:"changed"`
}

// Jobs are all jobs, by name.
type Jobs struct {
	Jobs []Job `json:"jobs"`
	Held int64 `json:"held" doc:"How many runs, of jobs and others, wait for a person."`
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
