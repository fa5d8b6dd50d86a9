package messages

import (
	"fmt"
	"strings"
)

// Way says which way bytes take between two accounts: workers are those that reach both, and at is the site
// of one of the accounts; empty where there is nothing to say. only says that the service leaves copying to
// workers.
func Way(source, target, at string, workers []string, only bool) string {
	switch {
	case len(workers) > 0:
		with := " with the service"
		if only {
			with = ""
		}
		noun, verb := "The workers", "copy"
		if len(workers) == 1 {
			noun, verb = "The worker", "copies"
		}
		return fmt.Sprintf("%s %s %s from /%s to /%s directly%s.", noun, strings.Join(workers, ", "), verb, source, target, with)
	case at != "":
		return fmt.Sprintf("Bytes from /%s to /%s pass through the service, as no worker reaches both. A worker at the site %s can be granted "+
			"the other account: heron worker grant NAME ACCOUNT.", source, target, at)
	}
	return ""
}

// WorkerRemedy says what to do about the state of a worker; empty for nothing. version is that of
// the worker, and own that of the service.
func WorkerRemedy(state, version, own string) string {
	switch state {
	case "waiting":
		return "Join it on its machine with the code: heron worker join URL CODE."
	case "expired":
		return "Its code is older than 15 minutes. Get a new one: heron worker code NAME."
	case "offline":
		return "Start heron worker on its machine, and check that the machine reaches the service."
	case "outdated":
		return "The service is version " + own + " and the worker " + version + ". Install the same version on both."
	case "untrusted":
		return "It said that it had copied what it had not; the service log has the run and the file. Check its machine, then: " +
			"heron worker resume NAME."
	case "draining":
		return "It takes nothing new. Have it work again: heron worker resume NAME."
	}
	return ""
}
