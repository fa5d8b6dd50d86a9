package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"deftheron/cli/format"
	"deftheron/client"
	"deftheron/contract"
)

// follow shows a run until it has ended: on a terminal as three lines that are
// drawn over, elsewhere as one line for each change of state.
func (a *app) follow(ctx context.Context, c *client.Client, id string) (contract.Run, error) {
	if a.terminal && !a.json {
		return a.followDrawn(ctx, c, id)
	}
	var before contract.Run
	return c.Follow(ctx, id, func(run contract.Run) {
		switch {
		case a.json:
		case run.State != before.State && !run.State.Ended():
			fmt.Fprintf(a.out, "%s %s: %s → %s%s\n", time.Now().Format("15:04:05"), run.State, run.ID, format.Plain(routesOf(run)), whyPaused(run))
		case run.Planned && !before.Planned && !run.State.Ended():
			fmt.Fprintf(a.out, "%s listed: %s, %s to transfer, %s up to date\n", time.Now().Format("15:04:05"),
				format.Some(run.Items.Done+run.Items.Failed+run.Items.Skipped+run.Items.Waiting, "item"), format.Size(run.Bytes.Total),
				format.Count(run.Items.UpToDate))
		}
		before = run
	}, func(err error) { fmt.Fprintln(a.err, sentences(err)+" Waiting for it.") })
}

// whyPaused says why a run is paused, where no person has done that.
func whyPaused(run contract.Run) string {
	if run.State != "paused" || run.Why == "" {
		return ""
	}
	return ": " + format.Plain(run.Why)
}

// drawn is the progress of one run, drawn by mpb.
type drawn struct {
	app *app
	mu  sync.Mutex
	run contract.Run
	off string // why the service is away
}

func (a *app) followDrawn(ctx context.Context, c *client.Client, id string) (contract.Run, error) {
	d := &drawn{app: a}
	progress := mpb.NewWithContext(ctx, mpb.WithOutput(a.out), mpb.WithRefreshRate(200*time.Millisecond), mpb.WithAutoRefresh())
	bar := progress.New(1, mpb.NopStyle(), mpb.BarFillerMiddleware(func(mpb.BarFiller) mpb.BarFiller {
		return mpb.BarFillerFunc(func(w io.Writer, _ decor.Statistics) error {
			_, err := io.WriteString(w, d.first())
			return err
		})
	}), mpb.BarExtender(mpb.BarFillerFunc(func(w io.Writer, _ decor.Statistics) error {
		_, err := io.WriteString(w, d.second()+"\n"+d.third()+"\n")
		return err
	}), false), mpb.BarRemoveOnComplete(), mpb.BarFillerTrim())
	run, err := c.Follow(ctx, id, d.set, d.away)
	bar.Abort(true)
	progress.Wait()
	return run, err
}

func (d *drawn) set(run contract.Run) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.run, d.off = run, ""
}

func (d *drawn) away(err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.off = sentences(err)
}

// share is how much has been done, of bytes where there are any.
func share(run contract.Run) float64 {
	if run.Bytes.Total > 0 {
		return min(1, float64(run.Bytes.Transferred)/float64(run.Bytes.Total))
	}
	ended := run.Items.Done + run.Items.Skipped + run.Items.Failed
	if all := ended + run.Items.Waiting; all > 0 {
		return float64(ended) / float64(all)
	}
	return 0
}

func timeLeft(seconds float64) string {
	if seconds < 0 {
		return "time left not known yet"
	}
	return format.Duration(seconds) + " left"
}

// first is a bar with percent and time left.
func (d *drawn) first() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.off != "" {
		return d.app.paint(ochre, fit(d.off, width()))
	}
	const cells = 32
	part := share(d.run)
	full := int(part * cells)
	bar := d.app.paint(plumage, strings.Repeat("━", full)) + d.app.paint(soft, strings.Repeat("─", cells-full))
	left := "listing"
	if d.run.State == "paused" {
		return d.app.paint(ochre, fit("paused"+whyPaused(d.run), width()))
	}
	if d.run.State == "queued" {
		left = "queued"
	} else if d.run.Now != nil && d.run.Planned {
		left = timeLeft(d.run.Now.Left)
	}
	return fmt.Sprintf("%s %3.0f %%  %s", bar, 100*part, left)
}

// second is items and bytes with the rate.
func (d *drawn) second() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	run := d.run
	ended := run.Items.Done + run.Items.Skipped + run.Items.Failed
	line := fmt.Sprintf("%s of %s, %s of %s", format.Count(ended), format.Some(ended+run.Items.Waiting, "item"),
		format.Size(run.Bytes.Transferred), format.Size(run.Bytes.Total))
	if run.Now != nil {
		line += fmt.Sprintf(", %s/s", format.Size(int64(run.Now.Rate)))
	}
	if run.Now != nil && len(run.Now.Slowed) > 0 {
		line += fmt.Sprintf(", /%s allows %.1f requests/s", run.Now.Slowed[0].Account, run.Now.Slowed[0].Rate)
	}
	if run.Items.UpToDate > 0 {
		line += fmt.Sprintf(", %s up to date", format.Count(run.Items.UpToDate))
	}
	if run.Items.Failed > 0 {
		line += ", " + d.app.paint(brick, format.Count(run.Items.Failed)+" failed")
	}
	return line
}

// third is the files in flight: as many as fit, whole.
func (d *drawn) third() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.run.Now != nil && len(d.run.Now.Away) > 0 && len(d.run.Now.Flying) == 0 {
		return d.app.paint(ochre, fit("waits for "+waitsFor(d.run.Now.Away[0]), width()))
	}
	if d.run.Now == nil || len(d.run.Now.Flying) == 0 {
		return d.app.paint(soft, "in flight: none")
	}
	room := width() - len("in flight: ") - len(" and 99 more")
	var texts []string
	for i, flying := range d.run.Now.Flying {
		text := format.Plain(flying.Address)
		if flying.Size > 8<<20 {
			text += fmt.Sprintf(" %.0f %%", 100*float64(flying.Transferred)/float64(flying.Size))
		}
		if room -= runewidth.StringWidth(text) + 2; room < 0 && i > 0 {
			texts = append(texts, fmt.Sprintf("and %d more", len(d.run.Now.Flying)-i))
			break
		}
		texts = append(texts, text)
	}
	return d.app.paint(soft, "in flight: ") + fit(strings.Join(texts, ", "), width()-len("in flight: "))
}

func width() int {
	if width := columns(os.Stdout); width > 20 {
		return width
	}
	return 80
}

// fit cuts a text that is too long for a line at its beginning, where an
// address tells least.
func fit(text string, columns int) string {
	if runewidth.StringWidth(text) <= columns {
		return text
	}
	return runewidth.TruncateLeft(text, runewidth.StringWidth(text)-columns+1, "…")
}
