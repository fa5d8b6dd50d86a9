package format

import (
	"strings"

	"deftheron/contract"
)

// WhenSentence says when a job runs automatically.
func WhenSentence(when contract.When) string {
	var text string
	switch {
	case when.Continuous:
		text = "continuously"
	case when.Arrival != "":
		text = "for each " + when.Arrival + " that arrives, once it is complete"
	case when.Now:
		text = "once, when it was created"
	case when.At != "":
		text = "once, at " + when.At
	case when.Every != "":
		text = "every " + when.Every
	case when.Weekly != "":
		text = "weekly, " + when.Weekly
	case when.Cron != "":
		text = "by the cron timetable " + when.Cron
	default:
		text = "when you start it"
	}
	if when.Hours != "" {
		text += ", within " + when.Hours
	}
	if when.Zone != "" {
		text += " (" + when.Zone + ")"
	}
	return text
}

// SafetySentence describes the safety limits of a job; nil means the default limits.
func SafetySentence(safety contract.Safety) string {
	given := contract.Safety{Deletions: "10%", Overwrites: "25%", Older: "0"}
	for text, own := range map[*string]string{&given.Deletions: safety.Deletions, &given.Overwrites: safety.Overwrites,
		&given.Older: safety.Older} {
		if own != "" {
			*text = own
		}
	}
	var parts []string
	for _, one := range [][2]string{{given.Deletions, "deleted"}, {given.Overwrites, "overwritten"},
		{given.Older, "replaced with older versions"}} {
		if one[0] != "none" {
			parts = append(parts, "more than "+one[0]+" "+one[1])
		}
	}
	if len(parts) == 0 {
		return "none"
	}
	return "holds a run with " + strings.Join(parts, ", or ")
}
