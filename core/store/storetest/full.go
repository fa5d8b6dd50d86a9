package storetest

import (
	"strings"

	"deftheron/core/store"
)

// Full writes more than a store on a small disk of so many bytes can hold, and wants
// it said, nothing left, and what fits taken after it.
func Full(t T, s store.Store, disk int) {
	t.Helper()
	kept := mustWrite(t, s, at(s, "kept.bin"), "old")
	content := strings.Repeat("0123456789abcdef", disk/8)
	for _, name := range []string{"large.bin", "kept.bin"} {
		condition := store.Absent
		if name == "kept.bin" {
			condition = store.AtRevision(kept.Revision)
		}
		_, err := write(t, s, at(s, name), content, condition)
		want(t, "a file that is larger than the disk", err, store.ErrNoSpace)
	}
	if entries := list(t, s, store.Folder{}); len(entries) != 1 || entries[0].Name != "kept.bin" {
		t.Errorf("there are %+v", entries)
	}
	if got := read(t, s, store.Reading{Place: at(s, "kept.bin"), Revision: kept.Revision}); got != "old" {
		t.Errorf("what was to be replaced holds %d bytes", len(got))
	}
	mustWrite(t, s, at(s, "small.bin"), strings.Repeat("x", disk/4))
}
