package cli

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"deftheron/cli/format"
	"deftheron/contract"
)

// The theme's colours as a terminal has them, by the numbers of its 256.
const (
	soft    = "38;5;246"
	plumage = "38;5;74"
	reed    = "38;5;71"
	ochre   = "38;5;172"
	brick   = "38;5;167"
	dusk    = "38;5;140"
)

// paint colours a text on a terminal that is to show colours.
func (a *app) paint(colour, text string) string {
	if !a.colour {
		return text
	}
	return "\x1b[" + colour + "m" + text + "\x1b[0m"
}

func (a *app) printJSON(value any) error {
	encoder := json.NewEncoder(a.out)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(value)
}

// newTable is a table without lines: columns apart, headers soft.
func (a *app) newTable(headers ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	row := table.Row{}
	for _, header := range headers {
		row = append(row, a.paint(soft, fmt.Sprint(header)))
	}
	t.AppendHeader(row)
	t.SuppressTrailingSpaces()
	return t
}

func alignRight(t table.Writer, columns ...int) {
	var configs []table.ColumnConfig
	for _, column := range columns {
		configs = append(configs, table.ColumnConfig{Number: column, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
}

func when(at *time.Time) string {
	if at == nil || at.IsZero() {
		return "—"
	}
	return at.Local().Format("2006-01-02 15:04:05")
}

// whenIn is a time on the clock of a zone, by its name; on this machine's where that is
// empty or not known.
func whenIn(at time.Time, zone string) string {
	location, err := time.LoadLocation(zone)
	if zone == "" || err != nil {
		return when(&at)
	}
	return at.In(location).Format("2006-01-02 15:04:05 ") + zone
}

// stateMark is a state as a word with a shape of its own, colour third.
func (a *app) stateMark(state string) string {
	mark := map[string]struct{ shape, colour string }{
		"queued": {"○", soft}, "running": {"◔", plumage}, "paused": {"‖", soft}, "held": {"▬", ochre},
		"done": {"✓", reed}, "partial": {"◐", ochre}, "failed": {"✗", brick}, "cancelled": {"⊘", soft},
		"waiting": {"○", soft}, "skipped": {"–", soft},
	}[state]
	return a.paint(mark.colour, mark.shape+" "+state)
}

// spaceOf says how full an account is.
func spaceOf(space contract.Space) string {
	if space.Total < 0 && space.Used < 0 && space.Free < 0 {
		return "not reported"
	}
	if space.Total < 0 && space.Free < 0 {
		return format.Size(space.Used) + " used, no limit reported"
	}
	return fmt.Sprintf("%s used, %s free of %s", format.Size(space.Used), format.Size(space.Free), format.Size(space.Total))
}
