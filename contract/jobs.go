package contract

import (
	"time"

	"deftheron/core/job"
	"deftheron/core/run"
)

// The types of a job are those of core/job, as a job file has them.
type (
	// JobSpec is a job as its file holds it: what it does, and when.
	JobSpec = job.Spec
	// Route is a source and a target of a job.
	Route = job.Route
	// When says when a job runs.
	When = job.When
	// Rules say what a run transfers, and how.
	Rules = job.Rules
	// Include says which files alone are transferred.
	Include = job.Include
	// Settings are the rules, the priority, the retries and the bandwidth of a run.
	Settings = job.Settings
	// Retry says how often an item is tried, and for how long.
	Retry = job.Retry
	// Bandwidth limits rates, also by hours of the week.
	Bandwidth = job.Bandwidth
	// Hour is a limit at hours of the week.
	Hour = job.Hour
	// Safety are the limits above which a run is held for approval.
	Safety = job.Safety
	// Arrivals say when an arrival is complete, and how many are transferred at once.
	Arrivals = job.Arrivals
	// Migration says how far a migration goes by itself.
	Migration = job.Migration
)

// DocumentsOf reads text=odt+pdf,sheet=ods as the rule for documents.
func DocumentsOf(text string) (map[string]string, error) { return job.DocumentsOf(text) }

// NewJob is a job to be created.
type NewJob struct {
	job.Spec
	Suspended bool `json:"suspended,omitempty" doc:"Create the job suspended."`
}

// Arrival is a file or folder that arrived.
type Arrival struct {
	Address string    `json:"address"`
	State   string    `json:"state" enum:"resting,ready,queued,running,paused,held,done,partial,failed,cancelled" doc:"resting: probably not complete yet; ready: it waits for its turn; else that of its run."`
	Run     string    `json:"run,omitempty"`
	Size    int64     `json:"size" doc:"Bytes; of a folder, of everything transferred from it."`
	Since   time.Time `json:"since" doc:"When this state was first seen."`
}

// ArrivalList is what arrived last, the latest first.
type ArrivalList struct {
	Arrivals []Arrival `json:"arrivals"`
}

// Arrived announces an arrival that is complete.
type Arrived struct {
	Address string `json:"address" minLength:"1" doc:"Address of the file or folder, in a source of the job."`
}

// TryingArrival says what a rule for arrivals is tried on.
type TryingArrival struct {
	Job     *JobSpec `json:"job,omitempty" doc:"A new job; otherwise the job in the path."`
	Address string   `json:"address,omitempty" doc:"Test with this arrival instead of the latest."`
}

// TriedArrival is what a rule would do with an arrival.
type TriedArrival struct {
	Address string     `json:"address" doc:"The arrival used for the test."`
	Arrived *time.Time `json:"arrived,omitempty" doc:"Time of change, as reported."`
	Matches bool       `json:"matches"`
	Why     string     `json:"why,omitempty" doc:"Why it does not match."`
	Targets []Renaming `json:"targets" doc:"The first hundred targets."`
	Plan    *Plan      `json:"plan,omitempty" doc:"The plan of its run."`
}

// MigrationProgress is how far a migration has come.
type MigrationProgress struct {
	Next     string    `json:"next,omitempty" doc:"The next step; empty at the end."`
	Waits    bool      `json:"waits" doc:"The step waits for a person to start it."`
	Why      string    `json:"why,omitempty" doc:"Why it waits."`
	Sentence string    `json:"sentence" doc:"The next step, in words."`
	Commands []string  `json:"commands,omitempty" doc:"Commands of a terminal that do what comes next."`
	Steps    []StepRun `json:"steps" doc:"The latest runs, oldest first."`
	// Certificate is that of the last final pass.
	Certificate *Certificate `json:"certificate,omitempty" doc:"The certificate of the last final pass."`
}

// StepRun is a run of a migration.
type StepRun struct {
	Step        string     `json:"step" enum:"survey,first-pass,catch-up,final-pass,clear,bring-back"`
	Run         string     `json:"run"`
	State       run.State  `json:"state"`
	Items       int64      `json:"items" doc:"Items that the step transferred or deleted."`
	Transferred int64      `json:"transferred" doc:"Bytes."`
	Ended       *time.Time `json:"ended,omitempty"`
}

// Starting is how a job is started.
type Starting struct {
	Step string `json:"step,omitempty" enum:"survey,first-pass,catch-up,final-pass,clear,bring-back" doc:"Migrations: the step to start instead of the next."`
}

// Job is what is to be done, kept.
type Job struct {
	job.Spec
	State     string             `json:"state" enum:"active,suspended"`
	Sentence  string             `json:"sentence" doc:"What the job does, in words."`
	Next      []time.Time        `json:"next" doc:"The next scheduled times."`
	Last      *Run               `json:"last,omitempty" doc:"The last run."`
	Migration *MigrationProgress `json:"migration,omitempty" doc:"The progress of a migration."`
	Created   time.Time          `json:"created"`
	Changed   time.Time          `json:"changed"`
}

// Jobs are all jobs, by name.
type Jobs struct {
	Jobs []Job `json:"jobs"`
	Held int64 `json:"held" doc:"Held runs, of jobs and others."`
}

// JobFile is one or several jobs, as YAML.
type JobFile struct {
	Text string `json:"text"`
	Try  bool   `json:"try,omitempty" doc:"Show the changes and make none."`
}

// Loaded is what loading a job file made or changed.
type Loaded struct {
	Jobs []LoadedJob `json:"jobs"`
}

// LoadedJob is one of them.
type LoadedJob struct {
	Name    string   `json:"name"`
	Outcome string   `json:"outcome" enum:"made,changed,unchanged"`
	Changes []string `json:"changes" doc:"Changed lines."`
}
