package contract

import (
	"time"

	"deftheron/core/run"
)

// RunSeries is the progress of a run over its whole life, in at most 2,000 intervals.
type RunSeries struct {
	run.Columns
	Bottleneck run.Bottleneck `json:"bottleneck,omitempty" enum:"source,target,limit,provider,machine" doc:"What the run waits for most; of a run that goes on, in the last 30 seconds."`
	Shares     run.Shares     `json:"shares" doc:"The figures behind it, from 0 to 1."`
	Sentence   string         `json:"sentence,omitempty" doc:"The bottleneck in words."`
	Workers    string         `json:"workers,omitempty" doc:"Whether another worker would help, in words."`
}

// RunEvent is something that happened to a run.
type RunEvent struct {
	At       time.Time `json:"at"`
	What     string    `json:"what" doc:"The state that the run came into; or bandwidth, priority, approved."`
	Cause    string    `json:"cause,omitempty"`
	Sentence string    `json:"sentence"`
}

// FlowDay is what one job transferred between two accounts in a day.
type FlowDay struct {
	Day   string `json:"day" doc:"YYYY-MM-DD, UTC."`
	Job   string `json:"job" doc:"Empty for all single copies and moves together."`
	From  string `json:"from" doc:"The account of the source."`
	To    string `json:"to" doc:"The account of the target."`
	Bytes int64  `json:"bytes"`
	Runs  int64  `json:"runs"`
}
