package messages

import (
	"deftheron/contract"
	"deftheron/core/job"
)

// Coming returns what comes next of the migration of a job, and the commands that start it
// where it waits for a person.
func Coming(name string, next job.Coming) (sentence string, commands []string) {
	switch {
	case next.Step == "":
		return "The migration is over.", nil
	case next.Waits:
		return "Next is the " + job.Words(next.Step) + ", which waits for you. " + contract.Capital(next.Why) + ".",
			[]string{"heron job start " + name}
	}
	return "Next is the " + job.Words(next.Step) + ", which starts automatically.", nil
}
