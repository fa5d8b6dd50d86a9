package contract

import "time"

// WeekHours are hours of the week, as text and as a grid.
type WeekHours struct {
	Text  string `json:"text,omitempty" maxLength:"2000" doc:"Hours of the week, as in job files: mon-fri 22:00-06:00, sat, sun."`
	Cells string `json:"cells,omitempty" maxLength:"168" doc:"168 digits, from Monday at 00:00: 1 for each hour that is covered. Sent in place of text, it is read as text."`
	Exact bool   `json:"exact,omitempty" doc:"The text has no parts of hours, and the grid shows all of it."`
}

// Times are the next times of a schedule.
type Times struct {
	Times []time.Time `json:"times"`
	Zone  string      `json:"zone" doc:"The time zone of the schedule."`
}
