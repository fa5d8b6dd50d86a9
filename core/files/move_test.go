package files_test

import (
	"testing"

	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/tree"
)

// TestPlanMove refuses, before anything is changed, what cannot be meant.
func TestPlanMove(t *testing.T) {
	desk := storetest.NewMemory()
	desk.Put("a", "a.txt")
	desk.Put("other", "sub", "a.txt")
	desk.Put("b", "into", "b.txt")
	desk.Folder("into", "sub")
	find := func(text string) files.Entry {
		t.Helper()
		address, err := store.ParseAddress(text)
		if err != nil {
			t.Fatal(err)
		}
		place, _ := address.Place()
		entry, err := desk.Stat(t.Context(), place)
		if err != nil {
			t.Fatal(err)
		}
		return files.Entry{Located: tree.Located{Account: tree.Account{Name: address.Account, Store: desk}, Address: address, Place: place},
			Entry: entry}
	}
	for name, c := range map[string]struct {
		from   []string
		folder string
		as     string
		want   string // the last target
		kind   error
	}{
		"a file":                   {[]string{"/desk/a.txt"}, "/desk/into", "", "/desk/into/a.txt", nil},
		"a new name":               {[]string{"/desk/a.txt"}, "/desk/into", "c.txt", "/desk/into/c.txt", nil},
		"to another account":       {[]string{"/desk/a.txt"}, "/away/into", "", "/away/into/a.txt", nil},
		"one name for two":         {[]string{"/desk/a.txt", "/desk/sub"}, "/desk/into", "c", "", store.ErrRefused},
		"two of one name":          {[]string{"/desk/a.txt", "/desk/sub/a.txt"}, "/desk/into", "", "", store.ErrRefused},
		"into a file":              {[]string{"/desk/sub"}, "/desk/a.txt", "", "", store.ErrExists},
		"into itself":              {[]string{"/desk/into"}, "/desk/into/sub", "", "", store.ErrRefused},
		"where it is":              {[]string{"/desk/into/b.txt"}, "/desk/into", "", "", store.ErrRefused},
		"a whole account":          {[]string{"/desk"}, "/desk/into", "", "", store.ErrRefused},
		"a name that is taken":     {[]string{"/desk/sub"}, "/desk/into", "", "", store.ErrExists},
		"a name of a file instead": {[]string{"/desk/a.txt"}, "/desk/into", "b.txt", "", store.ErrExists},
	} {
		var from []files.Entry
		for _, text := range c.from {
			from = append(from, find(text))
		}
		steps, err := files.PlanMove(t.Context(), from, find(c.folder), c.as)
		if store.KindOf(err) != c.kind {
			t.Errorf("%s: %v, want %v", name, err, c.kind)
			continue
		}
		if err != nil {
			continue
		}
		last := steps[len(steps)-1]
		if got := last.To.Address.String(); got != c.want || last.Inside() != (last.To.Name == "desk") {
			t.Errorf("%s: it becomes %s (in one account: %v), want %s", name, got, last.Inside(), c.want)
		}
	}
}
