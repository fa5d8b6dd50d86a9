package annotation_test

import (
	"strings"
	"testing"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/store"
)

func TestTag(t *testing.T) {
	for _, c := range []struct{ text, want, wrong string }{
		{"to check", "to check", ""},
		{"  to \t check ", "to check", ""},
		{"cafe\u0301", "caf\u00e9", ""},
		{"C++ & Go #2", "C++ & Go #2", ""},
		{strings.Repeat("ö", 50), strings.Repeat("ö", 50), ""},
		{strings.Repeat("ö", 51), "", "longer than 50"},
		{"", "", "empty"},
		{" \n ", "", "empty"},
		{"a,b", "", `','`},
		{"a\x1b[31m", "", "use letters"},
		{"a\u202eb", "", "use letters"},
		{"\xff", "", "valid UTF-8"},
	} {
		got, err := annotation.Tag(c.text)
		if got != c.want || (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%q: %q, %v; want %q, %q", c.text, got, err, c.want, c.wrong)
		}
	}
	if annotation.Fold("STRASSE") != annotation.Fold("Straße") {
		t.Error("letter case counts")
	}
}

func TestComment(t *testing.T) {
	for _, c := range []struct{ text, want, wrong string }{
		{" one\r\ntwo\rthree\t. ", "one\ntwo\nthree\t.", ""},
		{"", "", "empty"},
		{"a\x1b[2J", "", "control character"},
		{strings.Repeat("x", 4001), "", "at most 4000"},
		{"\xff", "", "valid UTF-8"},
	} {
		got, err := annotation.Comment(c.text)
		if got != c.want || (err == nil) != (c.wrong == "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%q: %q, %v; want %q, %q", c.text, got, err, c.want, c.wrong)
		}
	}
}

// TestLocks asks of every place in a small tree who may change it.
func TestLocks(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	lock := func(key, user string, hours int) annotation.Lock {
		return annotation.Lock{Key: store.Key(key), User: user, Name: user, Until: now.Add(time.Duration(hours) * time.Hour)}
	}
	locks := annotation.NewLocks([]annotation.Lock{
		lock("plan.txt", "ann", 1), lock("drafts/", "ben", 1), lock("old/x", "ann", -1), lock("deep/er/file", "ann", 1),
		lock("plan.txt/", "ben", 1),
	})
	if locks.Len() != 5 {
		t.Errorf("%d locks", locks.Len())
	}
	file, folder := store.KindFile, store.KindFolder
	for _, c := range []struct {
		ref   store.Ref
		whole bool
		user  string
		by    string // whose lock forbids it; empty for nobody's
	}{
		{store.At("plan.txt").As(file), false, "ann", ""},
		{store.At("plan.txt").As(file), false, "ben", "ann"},
		{store.At("plan.txt").As(file), false, "", "ann"},
		{store.At("plan.txt").As(folder), false, "ann", "ben"},
		{store.At("plan.txt"), false, "ben", "ann"},
		{store.At("plan.txts").As(file), false, "ben", ""},
		{store.At("drafts").As(folder), true, "ann", "ben"},
		{store.At("drafts").As(file), true, "ann", ""},
		{store.At("drafts", "a", "b").As(file), false, "ann", "ben"},
		{store.At("drafts", "a", "b").As(file), false, "ben", ""},
		{store.At("drafts", "a", "b").As(file), false, "", "ben"},
		{store.At("old", "x").As(file), false, "ben", ""},
		{store.At("old").As(folder), true, "ben", ""},
		{store.At("deep").As(folder), true, "ben", "ann"},
		{store.At("deep").As(folder), false, "ben", ""},
		{store.At("deep").As(folder), true, "ann", ""},
		{store.At("deep").As(folder), true, "", "ann"},
		{store.At("deep", "er", "other").As(file), true, "ben", ""},
	} {
		held, forbids := locks.Forbids(c.ref, c.whole, c.user, now)
		if forbids != (c.by != "") || held.User != c.by {
			t.Errorf("%s (%s, whole %v) by %q: forbidden by %q, %v; want %q", c.ref, c.ref.Kind, c.whole, c.user, held.User, forbids, c.by)
		}
	}
	var err error = &annotation.HeldError{Ref: store.At("plan.txt"), Lock: annotation.Lock{Name: "ann", Until: now, Reason: "figures"}}
	if store.KindOf(err) != store.ErrLocked || err.Error() != "/plan.txt is locked by ann (figures) until 2026-11-28 12:00 UTC" {
		t.Errorf("%v", err)
	}
}
