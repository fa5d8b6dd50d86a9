package plan

import (
	"time"

	"deftheron/core/store"
)

// What runs move to history at a target lies in a folder for each run, named by
// when the run began, at the same path as before.

// HistoryFolder is the folder in an account that holds those folders.
var HistoryFolder = store.MakePath(store.OwnFolder, "history")

const historyForm = "2006-01-02T150405Z"

// HistoryName is the name of the folder of a run.
func HistoryName(began time.Time) string { return began.UTC().Format(historyForm) }

// HistoryAt is when the run of such a folder began; ok is false of another name.
func HistoryAt(name string) (began time.Time, ok bool) {
	began, err := time.Parse(historyForm, name)
	return began, err == nil && HistoryName(began) == name
}
