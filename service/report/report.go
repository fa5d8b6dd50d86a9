// Package report writes the record of a run for people and programs to keep: as
// a page that prints well, as a table (CSV, RFC 4180), or as JSON.
package report

import (
	"bufio"
	"context"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"iter"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
)

// Format is the form of a report.
type Format string

// The formats.
const (
	HTML Format = "html"
	CSV  Format = "csv"
	JSON Format = "json"
	// PeopleCSV is of a certificate: the rights of share lists that were not carried over.
	PeopleCSV Format = "people-csv"
)

// ContentType of the format.
func (f Format) ContentType() string {
	switch f {
	case HTML:
		return "text/html; charset=utf-8"
	case CSV, PeopleCSV:
		return "text/csv; charset=utf-8"
	}
	return "application/json"
}

// Source is where the record of a run is read from.
type Source interface {
	Run(ctx context.Context, id string) (contract.Run, error)
	Causes(ctx context.Context, id string) ([]contract.CauseCount, error)
	Each(ctx context.Context, id, state string, do func(contract.Item) error) error
}

// Write writes the report of a run. It streams: items are never all held.
func Write(ctx context.Context, w io.Writer, source Source, id string, format Format) error {
	run, err := source.Run(ctx, id)
	if err != nil {
		return err
	}
	causes, err := source.Causes(ctx, id)
	if err != nil {
		return err
	}
	buffered := bufio.NewWriterSize(w, 64<<10)
	switch format {
	case HTML:
		err = writeHTML(ctx, buffered, source, run, causes)
	case CSV:
		err = writeCSV(ctx, buffered, source, id)
	default:
		err = writeJSON(ctx, buffered, source, run, causes)
	}
	if err != nil {
		return err
	}
	return buffered.Flush()
}

func writeCSV(ctx context.Context, w io.Writer, source Source, id string) error {
	table := csv.NewWriter(w)
	if err := table.Write([]string{"address", "target", "kind", "bytes", "state", "cause", "meaning", "remedy", "error", "verification",
		"attempts", "ended"}); err != nil {
		return err
	}
	err := source.Each(ctx, id, "", func(item contract.Item) error {
		ended := ""
		if item.Ended != nil {
			ended = item.Ended.UTC().Format(time.RFC3339)
		}
		return table.Write([]string{
			plainCell(item.Address), plainCell(item.Target), item.Kind, strconv.FormatInt(item.Size, 10), item.State, item.Cause,
			item.Meaning, item.Remedy, plainCell(item.Why), item.Verification, strconv.Itoa(item.Attempts), ended,
		})
	})
	table.Flush()
	if err != nil {
		return err
	}
	return table.Error()
}

// plainCell keeps a spreadsheet from taking a text for a formula. Addresses
// begin with a slash, but what an error quotes may begin with anything.
func plainCell(text string) string {
	if text != "" && (text[0] == '=' || text[0] == '+' || text[0] == '-' || text[0] == '@' || text[0] == '\t' || text[0] == '\r') {
		return "'" + text
	}
	return text
}

func writeJSON(ctx context.Context, w io.Writer, source Source, run contract.Run, causes []contract.CauseCount) error {
	head, err := json.Marshal(struct {
		Run    contract.Run          `json:"run"`
		Causes []contract.CauseCount `json:"causes"`
	}{run, causes})
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, "%s,\"items\":[", head[:len(head)-1]); err != nil {
		return err
	}
	separator := "\n"
	err = source.Each(ctx, run.ID, "", func(item contract.Item) error {
		encoded, err := json.Marshal(item)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(w, "%s%s", separator, encoded)
		separator = ",\n"
		return err
	})
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, "\n]}\n")
	return err
}

//go:embed report.html
var page string

//go:embed style.css
var style string

func styleSheet() template.CSS { return template.CSS(style) }

var pageTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"bytes": Bytes, "count": Count, "items": items, "when": When, "state": StateWord, "rate": rate, "took": took, "style": styleSheet,
	"rules": Rules, "named": named,
}).Parse(page))

// named is a run by its job and its id; one that was begun without a job, as a copy is,
// by its id alone.
func named(run contract.Run) string {
	if run.Job == "" || strings.HasSuffix(run.Job, "-"+run.ID) {
		return "Run " + run.ID
	}
	return run.Job + ", run " + run.ID
}

// pageData is what the page is made of. Items are streamed into it.
type pageData struct {
	Run      contract.Run
	Causes   []contract.CauseCount
	Failed   iter.Seq[contract.Item]
	Noted    iter.Seq[contract.Item]
	HasNoted bool
	Made     time.Time
	err      error
}

func writeHTML(ctx context.Context, w io.Writer, source Source, run contract.Run, causes []contract.CauseCount) error {
	data := &pageData{Run: run, Causes: causes, Made: time.Now()}
	data.Failed = data.items(ctx, source, "failed", func(contract.Item) bool { return true })
	data.Noted = data.items(ctx, source, "", func(item contract.Item) bool { return item.State == "done" && item.Cause != "" })
	for _, cause := range causes {
		data.HasNoted = data.HasNoted || cause.State == "done"
	}
	if err := pageTemplate.Execute(w, data); err != nil {
		return err
	}
	return data.err
}

func (d *pageData) items(ctx context.Context, source Source, state string, want func(contract.Item) bool) iter.Seq[contract.Item] {
	return func(yield func(contract.Item) bool) {
		stop := fmt.Errorf("enough")
		err := source.Each(ctx, d.Run.ID, state, func(item contract.Item) error {
			if want(item) && !yield(item) {
				return stop
			}
			return nil
		})
		if err != nil && err != stop {
			d.err = err
		}
	}
}

// Bytes shows a number of bytes as "1.2 GiB".
func Bytes(n int64) string {
	if n < 0 {
		return "unknown"
	}
	return humanize.IBytes(uint64(n))
}

// Count shows a number with its thousands apart.
func Count(n int64) string { return humanize.Comma(n) }

// items is "1 item" or "1,234 items".
func items(n int64) string {
	if n == 1 {
		return "1 item"
	}
	return Count(n) + " items"
}

// When shows a time in local time.
func When(at *time.Time) string {
	if at == nil || at.IsZero() {
		return "—"
	}
	return at.Local().Format("2006-01-02 15:04:05 MST")
}

// StateWord says a state in a sentence's end.
func StateWord(run contract.Run) string {
	switch {
	case run.Clears && run.State == "done":
		return "All items were transferred, verified and deleted at the source."
	case run.Cause == string(plan.CauseStays):
		if run.Step == job.Clear {
			return "The files verified at the target were deleted at the source, except some. " + run.Why + "."
		}
		return "All items were transferred and verified, but some could not be deleted at the source. " + run.Why + "."
	}
	switch {
	case run.Step == job.Clear && run.State == "done":
		return "Exactly the files that were verified at the target were deleted at the source."
	case run.Step == job.BringBack && run.State == "done":
		return "The files are back at the source, verified. They are at the target too."
	}
	switch run.State {
	case "done":
		return "All items were transferred and verified."
	case "partial":
		return "Some items failed. Those listed below are not at the target."
	case "failed":
		return "The run failed."
	case "cancelled":
		return "The run was cancelled. Transferred files stay at the target."
	}
	return "Not ended yet: " + string(run.State) + "."
}

func took(run contract.Run) string {
	if run.Started == nil || run.Ended == nil {
		return "—"
	}
	took := run.Ended.Sub(*run.Started)
	if took < time.Minute {
		return fmt.Sprintf("%.1f s", took.Seconds())
	}
	return took.Round(time.Second).String()
}

func rate(run contract.Run) string {
	if run.Started == nil || run.Ended == nil || run.Bytes.Transferred == 0 {
		return "—"
	}
	seconds := max(run.Ended.Sub(*run.Started).Seconds(), 0.001)
	return Bytes(int64(float64(run.Bytes.Transferred)/seconds)) + "/s"
}

// Rules says in sentences by which rules a run went.
func Rules(r contract.Rules) string {
	sentences := []string{"Conflicts: " + r.Conflict}
	say := func(what, value string) {
		if value != "" {
			sentences = append(sentences, what+": "+value)
		}
	}
	say("Excluded", strings.Join(r.Exclude, ", "))
	say("Included", strings.Join(r.Include.Patterns, ", "))
	say("Types", strings.Join(r.Include.Types, ", "))
	say("Smaller than", r.Include.SmallerThan)
	say("Larger than", r.Include.LargerThan)
	say("Newer than", r.Include.NewerThan)
	say("Older than", r.Include.OlderThan)
	if r.Include.Changed {
		say("Included", "files changed since an earlier run transferred them")
	}
	say("Template for names", r.As)
	if r.Names == "refuse" {
		say("Names that the target does not allow", "refused")
	}
	if r.Identical != "" {
		say("Identical files of the sources", r.Identical)
	}
	say("Verification", r.Verification)
	return strings.Join(sentences, ". ") + "."
}
