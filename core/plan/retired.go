package plan

import (
	"time"

	"deftheron/core/store"
)

// What runs take out of the way at a target lies in a folder for each run, named by
// when the run began, at the same path as before.

// RetiredFolder is the folder in an account that holds those folders.
var RetiredFolder = store.MakePath(store.OwnFolder, "retired")

const retiredForm = "2006-01-02T150405Z"

// RetiredName is the name of the folder of a run.
func RetiredName(began time.Time) string { return began.UTC().Format(retiredForm) }

// RetiredAt is when the run of such a folder began; ok is false of another name.
func RetiredAt(name string) (began time.Time, ok bool) {
	began, err := time.Parse(retiredForm, name)
	return began, err == nil && RetiredName(began) == name
}
