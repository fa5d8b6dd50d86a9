package records_test

import (
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/store"
	"deftheron/service/records"
)

// TestAnnotated keeps tags, comments and locks of entries with odd names, and moves a folder
// of them to where others were.
func TestAnnotated(t *testing.T) {
	db := open(t, t.TempDir())
	ctx, now := t.Context(), time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	file := func(names ...string) store.Ref { return store.At(names...).As(store.KindFile) }
	folder := func(names ...string) store.Ref { return store.At(names...).As(store.KindFolder) }
	names := []string{"plain", "a/b", "\xff\xfe", "100% ?", "x"}
	for _, name := range names {
		tags := []string{"Old", "for " + fmt.Sprintf("%x", name)}
		if _, err := db.AddTags(ctx, "desk", file("in", "deep", name), tags, "ann", now); err != nil {
			t.Fatal(err)
		}
	}
	for _, place := range []store.Ref{folder("in"), folder("in", "deep"), file("in"), file("inside"), folder("to"), file("to", "deep", "x")} {
		if added, err := db.AddTags(ctx, "desk", place, []string{"other"}, "ann", now); err != nil || added != 1 {
			t.Fatalf("%d, %v", added, err)
		}
	}
	if added, err := db.AddTags(ctx, "desk", file("in", "deep", "plain"), []string{"OLD"}, "ann", now); err != nil || added != 0 {
		t.Errorf("a tag in other letter case: %d, %v", added, err)
	}
	moved, err := db.MoveAnnotated(ctx, "desk", folder("in"), folder("to"))
	if err != nil || moved != int64(len(names))+2 {
		t.Errorf("%d entries moved, %v", moved, err)
	}
	for _, name := range names {
		one, err := db.AnnotatedAt(ctx, "desk", file("to", "deep", name))
		rows := []records.Annotated{one}
		if err == nil {
			err = db.FillAnnotated(ctx, rows)
		}
		if err != nil || !slices.Contains(rows[0].Tags, "for "+fmt.Sprintf("%x", name)) {
			t.Errorf("%q after the move: %q, %v", name, rows[0].Tags, err)
		}
	}
	for _, stays := range []store.Ref{file("in"), file("inside")} {
		if _, err := db.AnnotatedAt(ctx, "desk", stays); err != nil {
			t.Errorf("%s: %v", stays, err)
		}
	}
	if _, err := db.AnnotatedAt(ctx, "desk", folder("in")); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("the folder is still where it was: %v", err)
	}
	below := 0
	if err := db.AnnotatedBelow(ctx, "desk", store.MakePath("to"), func(*records.Annotated) error { below++; return nil }); err != nil ||
		below != len(names)+1 {
		t.Errorf("%d entries below, %v", below, err)
	}
	counts, err := db.CountTags(ctx, 2)
	if err != nil || len(counts) != 2 || counts[0].Entries != 6 || counts[1] != (records.TagCount{Tag: "Old", Entries: 5}) {
		t.Errorf("%+v, %v", counts, err)
	}
	if tagged, err := db.Tagged(ctx, "old", 0, 3); err != nil || len(tagged) != 3 {
		t.Errorf("%d, %v", len(tagged), err)
	}
	if after, err := db.AnnotatedAfter(ctx, "", "", records.Annotated{}, 100); err != nil || len(after) != len(names)+6 {
		t.Errorf("%d, %v", len(after), err)
	}
	if err := db.MissAnnotated(ctx, "desk", folder("to"), now); err != nil {
		t.Error(err)
	}
	if err := db.ForgetMissing(ctx, now, time.Now().Add(time.Hour)); err != nil { // also what is of no account
		t.Error(err)
	}
	if counts, err := db.CountTags(ctx, 10); err != nil || len(counts) != 0 {
		t.Errorf("tags of nothing are counted: %+v, %v", counts, err)
	}
}

// TestComments holds comments to their number, and one that is imported twice is there once.
func TestComments(t *testing.T) {
	db := open(t, t.TempDir())
	ctx, now := t.Context(), time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	place := store.At("file").As(store.KindFile)
	add := func(text string, at time.Time) (records.Comment, bool, error) {
		return db.AddComment(ctx, "desk", place, records.Comment{User: "u", By: "ann", At: at, Text: text})
	}
	first, isNew, err := add("first", now)
	if err != nil || !isNew {
		t.Fatal(err)
	}
	again, isNew, err := add("first, changed", now)
	if err != nil || isNew || again.ID != first.ID {
		t.Errorf("%+v, %v, %v", again, isNew, err)
	}
	comment, about, err := db.Comment(ctx, first.ID)
	if err != nil || comment.Text != "first, changed" || about.Name != "file" || !comment.At.Equal(now) {
		t.Errorf("%+v about %+v, %v", comment, about, err)
	}
	if err := db.EditComment(ctx, first.ID, "edited", now); err != nil {
		t.Error(err)
	}
	for i := range annotation.MostComments - 1 {
		if _, _, err := add("more", now.Add(time.Duration(i+1)*time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	if _, _, err := add("too many", now.Add(-time.Second)); !errors.Is(err, records.ErrTooMany) {
		t.Errorf("%v", err)
	}
	var tags []string
	for i := range annotation.MostTags + 1 {
		tags = append(tags, fmt.Sprint("tag ", i))
	}
	if _, err := db.AddTags(ctx, "desk", place, tags, "ann", now); !errors.Is(err, records.ErrTooMany) {
		t.Errorf("%v", err)
	}
	rows, err := db.AnnotatedIn(ctx, "desk", "", "file", "file")
	if err == nil {
		err = db.FillAnnotated(ctx, rows)
	}
	if err != nil || len(rows) != 1 || len(rows[0].Tags) != 0 || len(rows[0].Comments) != annotation.MostComments {
		t.Errorf("%d, %v", len(rows), err)
	}
	for _, one := range rows[0].Comments {
		if err := db.RemoveComment(ctx, one.ID, rows[0].ID); err != nil {
			t.Fatal(err)
		}
	}
	if has, err := db.HasAnnotated(ctx, "desk"); has || err != nil {
		t.Errorf("an entry without anything is kept: %v", err)
	}
}

// TestLockRows keeps a lock with its times, and finds an entry by its id before one that is
// missing.
func TestLockRows(t *testing.T) {
	db := open(t, t.TempDir())
	ctx, now := t.Context(), time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	gone, here := store.At("gone").As(store.KindFile), store.At("here").As(store.KindFile)
	gone.ID, here.ID = "=1", "=1"
	lock := records.Lock{User: "u", By: "ann", At: now, Until: now.Add(time.Hour), Reason: "why", Token: "t", HeldUntil: now.Add(time.Minute)}
	for _, place := range []store.Ref{gone, here} {
		if err := db.SetLock(ctx, "desk", place, lock); err != nil {
			t.Fatal(err)
		}
	}
	all, err := db.Locked(ctx, "")
	if err != nil || len(all) != 2 || !all[0].Lock.Until.Equal(lock.Until) || all[0].Lock.Token != "t" ||
		!all[0].Lock.HeldUntil.Equal(lock.HeldUntil) {
		t.Errorf("%+v, %v", all, err)
	}
	if err := db.MissAnnotated(ctx, "desk", gone, now); err != nil {
		t.Error(err)
	}
	one, err := db.AnnotatedByRef(ctx, "desk", "=1")
	if err != nil || one.Name != "here" {
		t.Errorf("%+v, %v", one, err)
	}
	moved := store.At("moved").As(store.KindFile)
	moved.ID = "=1"
	if err := db.FoundAnnotated(ctx, one.ID, "desk", moved); err != nil {
		t.Error(err)
	}
	if removed, err := db.RemoveTags(ctx, one.ID, []string{"none"}); removed != 0 || err != nil {
		t.Errorf("%d, %v", removed, err)
	}
	if err := db.RemoveLock(ctx, one.ID); err != nil {
		t.Error(err)
	}
	if all, err := db.Locked(ctx, "desk"); err != nil || len(all) != 0 {
		t.Errorf("%d, %v", len(all), err)
	}
}
