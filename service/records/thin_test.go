package records_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// year fills a run with changes of so many days, so many a day, the last of them today.
func year(t *testing.T, db *records.DB, run string, days, each int, now time.Time) {
	t.Helper()
	seq := int64(0)
	for day := range days {
		var items []transfer.Item
		var endings []transfer.Ending
		at := now.AddDate(0, 0, day-days+1)
		for i := range each {
			seq++
			action := plan.Create
			if i%10 == 9 {
				action = plan.Remove
			}
			items = append(items, transfer.Item{
				Seq: seq, Key: store.Key(fmt.Sprintf("Surveys 2026/river %d/gauge %05d.csv", i%7, i)), Kind: store.KindFile, Action: action, Size: 1000,
				State:    transfer.Waiting,
				SourceID: "01HZX8J5K2N7Q9R3T6V8W0Y1Z", Mark: "inode 5xvqb.dn62yaybr6zh",
			})
			ending := transfer.Ending{Seq: seq, State: transfer.Done, Verification: "crc64nvme=0123456789abcdef (told by the target)", Moved: 1000,
				Attempts: 1, Ended: at}
			switch {
			case i%100 == 50:
				ending.State, ending.Cause, ending.Why, ending.Moved = transfer.Failed, plan.CauseNoSpace, "there is no room", 0
			case i%100 == 51:
				ending.State, ending.Moved = transfer.Skipped, 0
			}
			endings = append(endings, ending)
		}
		if err := db.Enqueue(t.Context(), run, items); err != nil {
			t.Fatal(err)
		}
		if err := db.Finish(t.Context(), run, []string{"scope"}, endings); err != nil {
			t.Fatal(err)
		}
	}
}

// TestThinned thins what is old of a run that goes on and of one that has ended: what it
// came to stays the same, failures are kept, and the file gets smaller.
func TestThinned(t *testing.T) {
	dir := t.TempDir()
	db := open(t, dir)
	now := time.Now()
	for _, id := range []string{"going", "ended"} {
		run := addRun(t, db, id)
		year(t, db, id, 100, 300, now)
		old := now.AddDate(0, 0, -100)
		run.CreatedAt = old
		columns := []string{"created_at"}
		if id == "ended" {
			ended := now.AddDate(0, 0, -95)
			run.EndedAt = &ended
			columns = append(columns, "ended_at")
		}
		if err := db.SaveRun(t.Context(), run, columns...); err != nil {
			t.Fatal(err)
		}
	}
	before := map[string]transfer.Tally{}
	for _, id := range []string{"going", "ended"} {
		tally, err := db.Tally(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		before[id] = tally
	}
	size := func() int64 {
		info, err := os.Stat(filepath.Join(dir, records.FileName))
		if err != nil {
			t.Fatal(err)
		}
		return info.Size()
	}
	db.Close()
	full := size()
	db = open(t, dir)
	steps := 0
	for more := true; more; steps++ {
		var err error
		if more, err = db.Thin(t.Context(), now.AddDate(0, 0, -90)); err != nil {
			t.Fatal(err)
		}
	}
	for more := true; more; {
		var err error
		if more, err = db.Shrink(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.ThinSamples(t.Context(), now); err != nil {
		t.Fatal(err)
	}
	for id, want := range before {
		tally, err := db.Tally(t.Context(), id)
		if err != nil || fmt.Sprint(tally) != fmt.Sprint(want) {
			t.Errorf("%s comes to %+v, %v; want %+v", id, tally, err, want)
		}
	}
	kept := map[string]int{"going": 90 * 300, "ended": 100 * 3}
	for id, want := range kept {
		run, err := db.Run(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		all, _, err := db.FindItems(t.Context(), run.Number, records.ItemFilter{}, 0, 100_000)
		failed, _, wrong := db.FindItems(t.Context(), run.Number, records.ItemFilter{State: transfer.Failed}, 0, 100_000)
		if err != nil || wrong != nil || len(all) < want || len(all) > want+400 || len(failed) != 300 {
			t.Errorf("%s keeps %d items, %d of them failed, %v %v; want about %d and 300", id, len(all), len(failed), err, wrong, want)
		}
		if is, err := db.IsThinned(t.Context(), run.Number); err != nil || !is {
			t.Errorf("%s is said to be whole, %v", id, err)
		}
	}
	db.Close()
	if now := size(); now > full*2/3 {
		t.Errorf("the file has %d KiB of %d left after %d steps", now>>10, full>>10, steps)
	}
	t.Logf("%.0f bytes an item; a year of 3,000 changes a day, kept for 90 days, takes %.0f MiB", float64(full)/60_000,
		float64(full)/60_000*3000*90/(1<<20))
}
