package report

import (
	"bufio"
	"html/template"
	"io"
	"time"

	_ "embed"

	"deftheron/contract"
)

//go:embed survey.html
var surveyPage string

var surveyTemplate = template.Must(template.New("survey").Funcs(template.FuncMap{
	"bytes": Bytes, "count": Count, "when": whenTime, "style": styleSheet, "share": share,
	"total": func(d contract.Duplicated) int64 { return (d.Items - 1) * d.Size },
}).Parse(surveyPage))

// share is how much of all something is, in percent.
func share(part, all int64) string {
	if all <= 0 {
		return "—"
	}
	percent := float64(part) / float64(all) * 100
	if percent > 0 && percent < 1 {
		return "under 1 %"
	}
	return Count(int64(percent+0.5)) + " %"
}

// WriteSurvey writes a survey as a page to hand over.
func WriteSurvey(w io.Writer, survey contract.Survey) error {
	buffered := bufio.NewWriter(w)
	if err := surveyTemplate.Execute(buffered, survey); err != nil {
		return err
	}
	return buffered.Flush()
}

func whenTime(at time.Time) string { return When(&at) }
