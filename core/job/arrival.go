package job

import (
	"time"

	"deftheron/core/remedy"
)

// What can arrive.
const (
	ArrivingFile   = "file"
	ArrivingFolder = "folder"
)

// Arrivals say how what arrives is taken.
type Arrivals struct {
	// Rest is how long nothing of it may have changed for it to be complete; empty is
	// 10s for a file, and 30s for a folder.
	Rest string `yaml:"rest,omitempty" json:"rest,omitempty" doc:"An arrival is complete if nothing of it has changed for this long: 10s for a file and 30s for a folder unless given."`
	// AtOnce is how many are transferred at a time; 0 is 2.
	AtOnce int `yaml:"at-once,omitempty" json:"at_once,omitempty" minimum:"0" maximum:"20" doc:"Arrivals that are transferred at once: 2 unless given."`
}

// Taking is an Arrivals that was read.
type Taking struct {
	Rest   time.Duration
	AtOnce int
}

const (
	shortestRest, longestRest = time.Second, 24 * time.Hour
	mostAtOnce                = 20
)

// Read reads how what arrives is taken: arriving is ArrivingFile or ArrivingFolder.
func (a Arrivals) Read(arriving string) (Taking, error) {
	taking := Taking{Rest: 10 * time.Second, AtOnce: 2}
	if arriving == ArrivingFolder {
		taking.Rest = 30 * time.Second
	}
	if a.Rest != "" {
		var err error
		if taking.Rest, err = time.ParseDuration(a.Rest); err != nil || taking.Rest < shortestRest || taking.Rest > longestRest {
			return taking, remedy.Errorf("%q is not a waiting time for arrivals; write it as 30s or 5m, from a second to a day", a.Rest)
		}
	}
	if a.AtOnce != 0 {
		taking.AtOnce = a.AtOnce
	}
	if taking.AtOnce < 1 || taking.AtOnce > mostAtOnce {
		return taking, remedy.Errorf("%d transfers at once are not possible; give 1 to %d", taking.AtOnce, mostAtOnce)
	}
	return taking, nil
}

// otherTimes are what a job of a type can run by in place of arrivals.
func otherTimes(kind string) string {
	if kind == Migrate {
		return "a timetable"
	}
	return "when: {continuous: true}"
}
