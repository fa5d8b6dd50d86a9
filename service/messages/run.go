package messages

import (
	"fmt"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/run"
)

// Bottleneck says what a run waits for most, with the figures; empty if that is not known.
func Bottleneck(is run.Bottleneck, shares run.Shares) string {
	percent := func(share float64) string { return fmt.Sprintf("%.0f %%", 100*share) }
	figures := fmt.Sprintf("%s of the time went to reading, %s to writing and verifying, %s to waiting for a bandwidth limit, %s to waiting "+
		"for a free slot", percent(shares.Source), percent(shares.Target), percent(shares.Limit), percent(shares.Slots))
	switch is {
	case run.BottleneckSource:
		return "The source is the bottleneck: " + figures + "."
	case run.BottleneckTarget:
		return "The target is the bottleneck: " + figures + "."
	case run.BottleneckLimit:
		return "The bandwidth limit is the bottleneck: " + figures + "."
	case run.BottleneckProvider:
		return fmt.Sprintf("A provider is the bottleneck: it asked to slow down %d times, and %s of the time went to waiting for it.",
			shares.SlowDowns, percent(shares.Slots))
	case run.BottleneckMachine:
		return fmt.Sprintf("This machine is the bottleneck: its processors were %s busy.", percent(shares.Processor))
	}
	return ""
}

// MoreWorkers says whether another worker would help, by what a run waits for most; empty if that is not
// known.
func MoreWorkers(is run.Bottleneck) string {
	switch is {
	case run.BottleneckSource, run.BottleneckTarget:
		return "Another worker would help: most of the time goes to waiting for answers, and it would wait beside the others."
	case run.BottleneckMachine:
		return "Another worker would help: it brings processors of its own."
	case run.BottleneckLimit:
		return "Another worker would not help: all workers share the bandwidth limit."
	case run.BottleneckProvider:
		return "Another worker would not help: all workers share what the provider allows."
	}
	return ""
}

// RunEvent says what happened to a run.
func RunEvent(what, cause, detail string) string {
	switch what {
	case "bandwidth":
		return "The bandwidth limit was changed to " + detail + "."
	case "priority":
		return "The priority was changed to " + detail + "."
	case "approved":
		return "The run was approved."
	}
	sentence := map[run.State]string{
		run.Queued: "Queued.", run.Running: "Started.", run.Paused: "Paused.", run.Held: "Held.", run.Done: "Done.",
		run.Partial: "Ended with some items not transferred.", run.Failed: "Failed.", run.Cancelled: "Cancelled.",
	}[run.State(what)]
	if sentence == "" {
		return contract.Capital(what) + "."
	}
	if words := Of(plan.Cause(cause)); cause != "" && words.Sentence != "" {
		sentence += " " + words.Sentence
	}
	return sentence
}
