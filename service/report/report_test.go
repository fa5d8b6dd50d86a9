package report_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/service/report"
)

type source struct{}

func (source) Run(context.Context, string) (contract.Run, error) {
	began, ended := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 1, 1, 0, 0, 10, 0, time.UTC)
	return contract.Run{
		ID: "r1", State: "partial", Why: "1 items failed", Settings: contract.Settings{Rules: contract.Rules{Conflict: "keep-both"}},
		Started: &began, Ended: &ended,
		Routes: []contract.Route{{From: "/desk/<b>", To: "/archive/<b>"}},
		Items:  contract.ItemCounts{Done: 2, Failed: 1}, Bytes: contract.ByteCounts{Transferred: 10 << 20, Total: 10 << 20},
	}, nil
}

func (source) Causes(context.Context, string) ([]contract.CauseCount, error) {
	return []contract.CauseCount{
		{State: "done", Cause: "conflict-kept-both", Meaning: "Both changed.", Remedy: "Compare.", Items: 1},
		{State: "failed", Cause: "no-space", Meaning: "Full.", Remedy: "Free space.", Items: 1},
	}, nil
}

func (source) Each(_ context.Context, _, state string, do func(contract.Item) error) error {
	for _, item := range []contract.Item{
		{Address: "/desk/<script>alert(1)</script>", State: "failed", Cause: "no-space", Why: "=HYPERLINK(1)", Remedy: "Free space."},
		{Address: "/desk/a, \"b\"", State: "done", Verification: "crc64nvme=00 (told by the target)"},
		{Address: "/desk/both", Target: "/archive/both (from desk)", State: "done", Cause: "conflict-kept-both"},
	} {
		if state == "" || item.State == state {
			if err := do(item); err != nil {
				return err
			}
		}
	}
	return nil
}

func write(t *testing.T, format report.Format) string {
	t.Helper()
	var b bytes.Buffer
	if err := report.Write(t.Context(), &b, source{}, "r1", format); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func TestReport(t *testing.T) {
	page := write(t, report.HTML)
	for _, want := range []string{"Some items failed", "&lt;script&gt;", "Free space.", "/archive/both (from desk)", "1.0 MiB/s", "10.0 s"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if strings.Contains(page, "<script>") || strings.Contains(page, "http") {
		t.Error("the page runs a name, or loads something from elsewhere")
	}
	rows, err := csv.NewReader(strings.NewReader(write(t, report.CSV))).ReadAll()
	if err != nil || len(rows) != 4 || rows[2][0] != `/desk/a, "b"` || rows[1][8] != "'=HYPERLINK(1)" {
		t.Errorf("%q, %v", rows, err)
	}
	var whole struct {
		Run   contract.Run
		Items []contract.Item
	}
	if err := json.Unmarshal([]byte(write(t, report.JSON)), &whole); err != nil || whole.Run.ID != "r1" || len(whole.Items) != 3 {
		t.Errorf("%+v, %v", whole, err)
	}
}
