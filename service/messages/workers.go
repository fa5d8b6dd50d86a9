package messages

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
