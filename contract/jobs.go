package contract

import (
	"time"

	"deftheron/core/job"
)

// The types of a job are those of core/job, as a job file has them.
type (
	JobSpec   = job.Spec
	Route     = job.Route
	When      = job.When
	Rules     = job.Rules
	Include   = job.Include
	Settings  = job.Settings
	Retry     = job.Retry
	Bandwidth = job.Bandwidth
	Hour      = job.Hour
	Safety    = job.Safety
	Arrivals  = job.Arrivals
	Migration = job.Migration
)

// DocumentsOf reads text=odt+pdf,sheet=ods as the rule for documents.
func DocumentsOf(text string) (map[string]string, error) { return job.DocumentsOf(text) }

// NewJob is a job to be created.
type NewJob struct {
	job.Spec
	Suspended bool `json:"suspended,omitempty" doc:"Create the job, but do not let it run automatically yet."`
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

// MigrationProgress is how far a migration has come.
type MigrationProgress struct {
	Next     string    `json:"next,omitempty" doc:"The step that comes next; empty when it is over."`
	Waits    bool      `json:"waits" doc:"A person has to start it."`
	Why      string    `json:"why,omitempty" doc:"Why it waits."`
	Sentence string    `json:"sentence" doc:"What comes next, in words."`
	Steps    []StepRun `json:"steps" doc:"The runs so far, the oldest first; of many, the last."`
	// Certificate is that of the last final pass.
	Certificate *Certificate `json:"certificate,omitempty" doc:"What the last final pass has verified."`
}

// StepRun is a run of a migration.
type StepRun struct {
	Step        string     `json:"step" enum:"survey,first-pass,catch-up,final-pass,clear,bring-back"`
	Run         string     `json:"run"`
	State       string     `json:"state"`
	Items       int64      `json:"items" doc:"That it had to move, or to remove."`
	Transferred int64      `json:"transferred" doc:"Bytes."`
	Ended       *time.Time `json:"ended,omitempty"`
}

// Starting is how a job is started.
type Starting struct {
	Step string `json:"step,omitempty" enum:"survey,first-pass,catch-up,final-pass,clear,bring-back" doc:"Of a migration, in place of the step that comes next."`
}

// Job is what is to be done, kept.
type Job struct {
	job.Spec
	State     string             `json:"state" enum:"active,suspended"`
	Sentence  string             `json:"sentence" doc:"What the job makes true, in words."`
	Next      []time.Time        `json:"next" doc:"The next moments at which it runs automatically."`
	Last      *Run               `json:"last,omitempty" doc:"Its last run."`
	Migration *MigrationProgress `json:"migration,omitempty" doc:"How far it has come, of a migration."`
	Created   time.Time          `json:"created"`
	Changed   time.Time          `json:"changed"`
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
