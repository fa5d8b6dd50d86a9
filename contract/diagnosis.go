package contract

import "time"

// Diagnosis is what was found about a service and its machine.
type Diagnosis struct {
	At      time.Time    `json:"at"`
	Version string       `json:"version"`
	State   string       `json:"state" enum:"good,warning,failed" doc:"The worst of all checks."`
	Checks  []Diagnostic `json:"checks"`
}

// Diagnostic is one check of a diagnosis.
type Diagnostic struct {
	Name   string `json:"name" doc:"What was checked, such as records or clock."`
	State  string `json:"state" enum:"good,warning,failed"`
	Found  string `json:"found" doc:"What was found, as a sentence."`
	Remedy string `json:"remedy,omitempty" doc:"What to do about it."`
}
