// Package format turns the answers of the service into words for people: sizes, counts,
// times, and the summary of a plan or a run in a sentence.
package format

import (
	"fmt"
	"strings"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"

	"deftheron/contract"
)

// Size shows bytes as "1.2 GiB"; "—" where unknown.
func Size(n int64) string {
	if n < 0 {
		return "—"
	}
	return humanize.IBytes(uint64(n))
}

// Count shows a number with its thousands apart.
func Count(n int64) string { return humanize.Comma(n) }

// Some is "1 file" or "1,234 files".
func Some(n int64, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if strings.HasSuffix(one, "y") {
		return Count(n) + " " + strings.TrimSuffix(one, "y") + "ies"
	}
	if strings.HasSuffix(one, "sh") {
		return Count(n) + " " + one + "es"
	}
	return Count(n) + " " + one + "s"
}

// Quantity is "214 files in 3 folders, 1.2 GiB".
func Quantity(q contract.Quantity) string {
	var parts []string
	if q.Files > 0 || q.Folders+q.Others == 0 {
		parts = append(parts, Some(q.Files, "file"))
	}
	if q.Others > 0 {
		parts = append(parts, Some(q.Others, "link or device"))
	}
	if q.Folders > 0 {
		parts = append(parts, Some(q.Folders, "folder"))
	}
	return and(parts) + ", " + Size(q.Bytes)
}

// Duration is short and has its unit.
func Duration(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Second:
		return "under 1 s"
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// Word makes a text one word of a shell's command line, which nothing is done with
// but to pass it on, safe to print.
func Word(text string) string {
	text = Plain(text)
	const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./:@%+=,-"
	if text != "" && strings.Trim(text, plain) == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// Plain makes a name safe to print: what would move the cursor is shown, not
// done.
func Plain(name string) string {
	if strings.IndexFunc(name, func(r rune) bool {
		return unicode.IsControl(r) || r == unicode.ReplacementChar || unicode.Is(unicode.Bidi_Control, r)
	}) < 0 {
		return name
	}
	var b strings.Builder
	for _, r := range name {
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) {
			fmt.Fprintf(&b, "\\u%04x", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// PlanSentence summarises a plan in one sentence.
func PlanSentence(plan contract.Plan) string {
	var doing, leaving []string
	do := func(what, one string, n contract.Count) {
		if n.Items > 0 {
			doing = append(doing, fmt.Sprintf("%s %s (%s)", what, Some(n.Items, one), Size(n.Bytes)))
		}
	}
	leave := func(n int64, what string) {
		if n > 0 {
			leaving = append(leaving, Count(n)+" "+what)
		}
	}
	less := contract.Count{Items: plan.Moved.Items + plan.Twice.Items, Bytes: plan.Moved.Bytes + plan.Twice.Bytes}
	do("copy", "file", contract.Count{Items: plan.Create.Items - less.Items, Bytes: plan.Create.Bytes - less.Bytes})
	do("replace", "changed file", plan.Replace)
	do("keep both files of", "conflict", plan.KeepBoth)
	do("compare the contents of", "file", plan.Look)
	do("ask about", "conflict", plan.Ask)
	if plan.Folders > 0 {
		kind := "empty folder"
		if plan.Type == "two-way" { // all are remembered, whatever they hold
			kind = "folder"
		}
		doing = append(doing, "create "+Some(plan.Folders, kind))
	}
	do("delete", "file", contract.Count{Items: plan.Remove.Items - plan.Moved.Items, Bytes: plan.Remove.Bytes - plan.Moved.Bytes})
	do("move", "file", plan.Moved)
	if plan.FoldersRemoved > 0 {
		doing = append(doing, "delete "+Some(plan.FoldersRemoved, "folder"))
	}
	for _, export := range plan.Exports {
		leaving = append(leaving, fmt.Sprintf("%s exported as %s", Some(export.Items, export.Document+" document"), export.Format))
	}
	leave(plan.Unchanged.Items, "up to date")
	leave(plan.Assumed.Items, "of them by size and time only")
	leave(plan.Twice.Items, "identical to others and kept once")
	leave(plan.Alike.Items, "of those to copy have the size of another and are copied unless identical")
	leave(plan.Left.Items, "kept at the target, because both sides changed")
	leave(plan.Excluded.Items, "excluded")
	if plan.FoldersExcluded > 0 {
		leaving = append(leaving, Some(plan.FoldersExcluded, "folder")+" excluded")
	}
	leave(plan.Skipped.Items, "skipped: links and devices")
	leave(plan.Refused.Items, "not allowed at the target")
	if len(doing) > 0 && plan.Conflicts == 0 {
		leaving = append(leaving, "no conflicts")
	}
	sentence := "Nothing to do"
	if len(doing) > 0 {
		targets := make([]string, len(plan.Routes))
		for i, route := range plan.Routes {
			targets[i] = Plain(route.To)
		}
		sentence = "To " + strings.Join(targets, ", ") + ": " + and(doing)
		if plan.Back.Items > 0 {
			sources := make([]string, len(plan.Routes))
			for i, route := range plan.Routes {
				sources[i] = Plain(route.From)
			}
			sentence = fmt.Sprintf("Between %s and %s: %s; of these %s to %s", strings.Join(sources, ", "), strings.Join(targets, ", "), and(doing),
				Count(plan.Back.Items), strings.Join(sources, ", "))
		}
	}
	if len(leaving) > 0 {
		sentence += "; " + strings.Join(leaving, ", ")
	}
	return sentence + "."
}

// ByTimeAlone says how many files count as the same by size and time, and how their
// contents are compared.
func ByTimeAlone(n contract.Count, routes []contract.Route) string {
	said := fmt.Sprintf("%s (%s) had the same size and time at the target; their contents were not compared", Some(n.Items, "file"),
		Size(n.Bytes))
	if len(routes) == 0 {
		return said
	}
	return fmt.Sprintf("%s; to compare them: heron compare %s %s --read", said, quoted(routes[0].From), quoted(routes[0].To))
}

// quoted is an address as a shell takes it for one word.
func quoted(address string) string {
	if strings.ContainsAny(address, " \t\"'`$&|;<>()*?[]{}~#!\\") {
		return "'" + strings.ReplaceAll(address, "'", `'\''`) + "'"
	}
	return address
}

// and joins parts as a sentence does.
func and(parts []string) string {
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// PlanDetails returns more about a plan, line by line: how long it takes, how it is
// verified, which files get another name, and which are not sent.
func PlanDetails(plan contract.Plan) (lines []string) {
	line := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	for i, address := range plan.Removals {
		if i == 0 {
			line("To be deleted:")
		}
		if i == 10 {
			line("  and %s more", Count(plan.Remove.Items-10))
			break
		}
		line("  %s", Plain(address))
	}
	if plan.Assumed.Items > 0 {
		line("%s.", ByTimeAlone(plan.Assumed, plan.Routes))
	}
	filterExamples(plan, line)
	if plan.Moving.Items == 0 && plan.Folders == 0 {
		return lines
	}
	for _, way := range plan.Ways {
		line("%s", Plain(way))
	}
	switch {
	case plan.Seconds >= 0 && plan.Seconds < 1:
		line("It takes less than 1 s, estimated from %s.", plan.Basis)
	case plan.Seconds >= 0:
		line("It takes about %s, estimated from %s.", Duration(plan.Seconds), plan.Basis)
	default:
		line("The duration is unknown; measure the speed with: heron account speed NAME")
	}
	if len(plan.Requests) > 0 {
		line("It takes about %s.", requestsOf(plan.Requests))
	}
	for _, verification := range plan.Verification {
		line("Verification at /%s: %s.", verification.Account, verification.How)
	}
	if plan.Free >= 0 {
		line("The target has %s free.", Size(plan.Free))
	}
	if plan.Inside.Items > 0 {
		line("Copied or moved inside the account: %s (%s).", Some(plan.Inside.Items, "file"), Size(plan.Inside.Bytes))
	}
	if plan.Translated.Items > 0 {
		line("%s not allowed at the target and translated:", Some(plan.Translated.Items, "name"))
		for i, name := range plan.Names {
			if i == 5 {
				line("  and %s more", Count(plan.Translated.Items-5))
				break
			}
			line("  %s → %s", Plain(name.Address), Plain(name.Target))
		}
	}
	return lines
}

// requestsOf says how many requests accounts are sent.
func requestsOf(requests []contract.AccountRequests) string {
	var parts []string
	for i, one := range requests {
		if i == 0 {
			parts = append(parts, fmt.Sprintf("%s to /%s", Some(one.Requests, "request"), one.Account))
			continue
		}
		parts = append(parts, fmt.Sprintf("%s to /%s", Count(one.Requests), one.Account))
	}
	return and(parts)
}

// filterExamples prints what a filter includes and excludes, with a few examples of each.
func filterExamples(plan contract.Plan, line func(format string, args ...any)) {
	if plan.Excluded.Items+plan.FoldersExcluded == 0 {
		return
	}
	line("The filters take %s of %s, %s.", Count(plan.Taken.Items), Some(plan.Taken.Items+plan.Excluded.Items, "file"), Size(plan.Taken.Bytes))
	for _, side := range []struct {
		what  string
		first []string
	}{{"taken", plan.TakenFirst}, {"excluded", plan.ExcludedFirst}} {
		for _, address := range side.first[:min(len(side.first), 3)] {
			line("  %s %s", side.what, Plain(address))
		}
	}
}

// BandwidthSentence says which limits there are.
func BandwidthSentence(of string, bandwidth contract.Bandwidth) string {
	var parts []string
	if bandwidth.Up != "" {
		parts = append(parts, "up to "+bandwidth.Up+" up")
	}
	if bandwidth.Down != "" {
		parts = append(parts, "up to "+bandwidth.Down+" down")
	}
	for _, one := range bandwidth.Hours {
		parts = append(parts, one.Rate+" "+one.When)
	}
	if len(parts) == 0 {
		return contract.Capital(of) + " has no bandwidth limit."
	}
	return contract.Capital(of) + ": " + strings.Join(parts, "; ") + "."
}

// RunSentence says in a sentence what came of a run.
func RunSentence(run contract.Run) string {
	sentence := fmt.Sprintf("Run %s: ", run.ID)
	switch {
	case run.Step == "survey" && run.State == "done":
		sentence += "the survey is done"
	case run.Step == "clear":
		sentence += fmt.Sprintf("%s verified at the target and deleted at the source", Some(run.Items.Removed, "item"))
	case run.Items.Done == 0 && run.Items.Failed == 0 && run.State == "done":
		sentence += "nothing to transfer"
	default:
		done := "transferred and verified"
		if run.Clears && run.State == "done" {
			done = "transferred, verified and deleted at the source"
		}
		sentence += fmt.Sprintf("%s %s (%s)", Some(run.Items.Done-run.Items.Removed, "item"), done, Size(run.Bytes.Transferred))
	}
	if run.Items.Removed > 0 && run.Step != "clear" {
		sentence += fmt.Sprintf(", %s deleted", Count(run.Items.Removed))
	}
	if run.Items.UpToDate > 0 {
		sentence += fmt.Sprintf(", %s up to date", Count(run.Items.UpToDate))
		if run.Assumed.Items > 0 {
			sentence += fmt.Sprintf(" (%s of them by size and time only)", Count(run.Assumed.Items))
		}
	}
	if run.Items.Skipped > 0 {
		sentence += fmt.Sprintf(", %s skipped", Count(run.Items.Skipped))
	}
	if run.Items.Failed > 0 {
		sentence += fmt.Sprintf(", %s failed", Count(run.Items.Failed))
	}
	if run.Started != nil && run.Ended != nil {
		sentence += ", in " + Duration(run.Ended.Sub(*run.Started).Seconds())
	}
	if run.State != "done" && run.Why != "" {
		sentence += ". " + contract.Capital(Plain(run.Why))
	}
	return sentence + "."
}
