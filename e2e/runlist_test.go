package e2e

import (
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/run"
)

// TestProgressIsKept follows a run with a bandwidth limit over a pause and a restart of the
// service: its series adds up to what it transferred, and its events tell what happened.
func TestProgressIsKept(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	writeFile(t, strings.Repeat("0123456789abcdef", 6<<20/16), filepath.Join(desk, "film.mov"))
	writeFile(t, "small", filepath.Join(desk, "note.txt"))
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	var started contract.Started
	if err := json.Unmarshal([]byte(h.must("copy", "/desk", "/archive", "--up", "2MB/s", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	id := started.Run
	time.Sleep(2500 * time.Millisecond)
	series, err := h.client().Series(t.Context(), id)
	if err != nil || series.Bottleneck != run.BottleneckLimit || !strings.Contains(series.Sentence, "bandwidth limit is the bottleneck") {
		t.Errorf("while it moves, the bottleneck is %q (%v): %s, %+v", series.Bottleneck, err, series.Sentence, series.Shares)
	}
	if len(series.Bytes) < 2 || series.Limit[0] != 2_000_000 {
		t.Errorf("while it moves: %+v", series.Columns)
	}
	h.must("run", "pause", id)
	h.until(id, "paused")
	h.end(syscall.SIGTERM)
	h.serve()
	h.must("run", "limit", id, "--up", "unlimited")
	h.must("run", "resume", id)
	ended := h.until(id, "done")
	if series, err = h.client().Series(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	items := int64(0)
	for _, n := range series.Items {
		items += n
	}
	if n := len(series.At); n < 3 || n > run.MostPoints || items != ended.Items.Done {
		t.Errorf("%d points, %d items of %d: %+v", n, items, ended.Items.Done, series.Columns)
	}
	if !slices.IsSorted(series.At) {
		t.Errorf("the points are not in order: %v", series.At)
	}
	events, err := h.client().Events(t.Context(), id)
	var what []string
	for _, event := range events {
		what = append(what, event.What)
	}
	if want := []string{"queued", "running", "paused", "bandwidth", "queued", "running", "done"}; err != nil || !slices.Equal(what, want) {
		t.Errorf("the events are %v (%v), want %v", what, err, want)
	}
	out := h.must("run", "show", id)
	for _, want := range []string{"bottleneck", "Paused.", "The bandwidth limit was changed to unlimited up and unlimited down.", "Done."} {
		if !strings.Contains(out, want) {
			t.Errorf("run show does not say %q:\n%s", want, out)
		}
	}
}

// TestFindRuns finds runs by what they are about, in the terminal and by the interface.
func TestFindRuns(t *testing.T) {
	h := start(t)
	desk := t.TempDir()
	writeFile(t, "a", filepath.Join(desk, "Reports", "a.txt"))
	writeFile(t, "b", filepath.Join(desk, "Films", "b.txt"))
	h.linkFolder("desk", desk)
	h.linkFolder("archive", t.TempDir())
	h.linkFolder("attic", t.TempDir())
	reports, films := h.copy("/desk/Reports", "/archive"), h.copy("/desk/Films", "/attic")
	found := func(filter client.RunFilter) (ids []string) {
		t.Helper()
		for one, err := range h.client().Runs(t.Context(), filter) {
			if err != nil {
				t.Fatal(err)
			}
			ids = append(ids, one.ID)
		}
		return ids
	}
	for name, c := range map[string]struct {
		filter client.RunFilter
		want   []string
	}{
		"all":               {client.RunFilter{}, []string{films.ID, reports.ID}},
		"by account":        {client.RunFilter{Account: "attic"}, []string{films.ID}},
		"by job":            {client.RunFilter{Job: reports.Job}, []string{reports.ID}},
		"by state":          {client.RunFilter{States: []string{"failed", "held"}}, nil},
		"by text":           {client.RunFilter{Text: "reports"}, []string{reports.ID}},
		"by time":           {client.RunFilter{From: time.Now().Add(-time.Hour), To: time.Now().Add(time.Hour)}, []string{films.ID, reports.ID}},
		"of days gone by":   {client.RunFilter{To: time.Now().AddDate(0, 0, -1)}, nil},
		"by all at once":    {client.RunFilter{Account: "desk", States: []string{"done"}, Text: "films"}, []string{films.ID}},
		"of another's name": {client.RunFilter{Account: "des"}, nil},
	} {
		if got := found(c.filter); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
	h.must("account", "edit", "attic", "--name", "loft")
	if got := found(client.RunFilter{Account: "loft"}); !slices.Equal(got, []string{films.ID}) {
		t.Errorf("under the new name of the account: %v", got)
	}
	if out := h.must("run", "list", "--account", "loft"); !strings.Contains(out, films.ID) || strings.Contains(out, reports.ID) {
		t.Errorf("run list: %s", out)
	}
	h.says("", 2, "is not a time", "run", "list", "--since", "yesterday")
	if r := h.run("", "run", "list", "--state", "broken"); r.code == 0 {
		t.Errorf("a state that there is not: %s", r.out)
	}
	flows := h.must("run", "list", "--text", "no such text")
	if !strings.Contains(flows, "No run matches") {
		t.Errorf("none: %s", flows)
	}
}

// TestFlows counts every byte once: of a copy, of a run from several accounts, and of one that
// goes both ways.
func TestFlows(t *testing.T) {
	h := start(t)
	for _, name := range []string{"desk", "attic", "archive"} {
		folder := t.TempDir()
		writeFile(t, strings.Repeat(name[:1], 1000), folder, "files", name+".txt")
		h.linkFolder(name, folder)
	}
	moved := h.copy("/desk/files", "/archive/copies").Bytes.Transferred
	h.must("job", "create", "all", "--type", "consolidate", "--from", "/desk/files", "--to", "/archive/all/desk", "--from", "/attic/files",
		"--to", "/archive/all/attic")
	moved += h.job("all", 0).Bytes.Transferred
	h.must("job", "create", "both", "--type", "two-way", "--from", "/desk/files", "--to", "/attic/files")
	moved += h.job("both", 0).Bytes.Transferred
	status, text, _ := h.send("GET", "/api/v1/flows", h.token(), nil)
	var days []contract.FlowDay
	if err := json.Unmarshal([]byte(text), &days); err != nil || status != 200 {
		t.Fatal(status, err, text)
	}
	counted, flows := int64(0), map[string]int64{}
	for _, day := range days {
		counted += day.Bytes
		flows[day.Job+" "+day.From+" "+day.To] += day.Bytes
	}
	if counted != moved || moved == 0 {
		t.Errorf("%d bytes are counted, %d were transferred: %v", counted, moved, flows)
	}
	for _, want := range []string{" desk archive", "all desk archive", "all attic archive", "both desk attic"} {
		if flows[want] == 0 {
			t.Errorf("nothing is counted for %q: %v", want, flows)
		}
	}
}
