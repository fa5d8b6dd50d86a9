package records_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// TestNotesOutliveTheProcess notes more than a file of notes holds, opens the records
// again without closing them, as after a kill, and reads the last notes of what waits.
func TestNotesOutliveTheProcess(t *testing.T) {
	dir := t.TempDir()
	db := open(t, dir)
	addRun(t, db, "x")
	const items = 5600
	var queued []transfer.Item
	for seq := int64(1); seq <= items; seq++ {
		queued = append(queued, transfer.Item{Seq: seq, Key: store.Key("k"), Kind: store.KindFile, Action: plan.Create, State: transfer.Waiting})
	}
	if err := db.Enqueue(t.Context(), "x", queued); err != nil {
		t.Fatal(err)
	}
	source := compare.Remembered{Revision: "r", Size: 3, Modified: time.Unix(1_700_000_000, 5).UTC()}
	for seq := int64(1); seq <= items; seq++ {
		if err := db.Note("x", transfer.Note{Seq: seq, Source: source, Hash: "crc64nvme=00"}); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Note("of another run", transfer.Note{Seq: 1, Hash: "crc64nvme=02"}); err != nil {
		t.Fatal(err)
	}
	broken, err := os.OpenFile(filepath.Join(dir, "notes-2"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := broken.WriteString(`{"Run":"x","No`); err != nil {
		t.Fatal(err)
	}
	broken.Close()
	if err := db.Finish(t.Context(), "x", []string{"scope"}, []transfer.Ending{{Seq: 7, State: transfer.Done}}); err != nil {
		t.Fatal(err)
	}

	again := open(t, dir)
	if err := again.Note("x", transfer.Note{Seq: items, Source: source, Hash: "crc64nvme=01"}); err != nil {
		t.Fatal(err)
	}
	noted, err := again.Noted(t.Context(), "x")
	if err != nil || len(noted) != items-1 {
		t.Fatalf("%d notes, %v; want %d", len(noted), err, items-1)
	}
	last := noted[len(noted)-1]
	if last.Item.Seq != items || last.Hash != "crc64nvme=01" || last.Source != source {
		t.Errorf("the last note is %+v", last)
	}
	for range items { // those of what was noted long ago are dropped
		if err := again.Note("y", transfer.Note{Seq: 1}); err != nil {
			t.Fatal(err)
		}
	}
	if noted, err = again.Noted(t.Context(), "x"); err != nil || len(noted) > 5000 {
		t.Errorf("%d notes are kept, %v", len(noted), err)
	}
	for _, name := range []string{"notes-1", "notes-2"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v; want it readable by its owner alone", name, info, err)
		}
	}
}
