package report

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"html/template"
	"io"
	"strconv"
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
	return WriteSurveys(w, []contract.Survey{survey}, HTML)
}

// WriteSurveys writes several surveys together: as a page, as JSON, or as a table of
// what each comes to.
func WriteSurveys(w io.Writer, surveys []contract.Survey, format Format) error {
	buffered := bufio.NewWriter(w)
	var err error
	switch format {
	case HTML:
		err = surveyTemplate.Execute(buffered, surveys)
	case CSV:
		err = surveysCSV(buffered, surveys)
	default:
		err = json.NewEncoder(buffered).Encode(surveys)
	}
	if err != nil {
		return err
	}
	return buffered.Flush()
}

func surveysCSV(w io.Writer, surveys []contract.Survey) error {
	table := csv.NewWriter(w)
	rows := [][]string{{"address", "for", "files", "folders", "bytes", "names translated", "names refused", "files too large", "documents"}}
	for _, one := range surveys {
		documents := int64(0)
		for _, kind := range one.Documents {
			documents += kind.Items
		}
		row := []string{plainCell(one.Address), plainCell(one.For)}
		for _, n := range []int64{one.Files, one.Folders, one.Bytes, one.Translated, one.Refused, one.TooLarge.Items, documents} {
			row = append(row, strconv.FormatInt(n, 10))
		}
		rows = append(rows, row)
	}
	return table.WriteAll(rows)
}

func whenTime(at time.Time) string { return When(&at) }
