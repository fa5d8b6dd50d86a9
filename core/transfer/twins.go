package transfer

import (
	"fmt"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/spill"
	"deftheron/core/store"
)

// twins counts which of the files that a plan creates are identical, or may be, where
// identical ones are to be there once. They are sorted by size and hash, with what memory
// should not hold in a scratch file.
type twins struct{ sorter spill.Sorter[int64] }

func (t *twins) add(route Route, step plan.Step) error {
	size := step.Size()
	if route.Contents == "" || step.Action != plan.Create || step.Kind == store.KindFolder || size <= 0 {
		return nil
	}
	told := ""
	if mark := compare.MarkOf(step.Source); compare.MarkIsContent(mark) {
		told, _, _ = strings.Cut(mark, " ")
	}
	return t.sorter.Add(fmt.Sprintf("%020d %s", size, told), "", size)
}

// count adds those that are the same as another before them: by a hash that is told, or
// perhaps, by their size.
func (t *twins) count(totals *plan.Totals) error {
	before := ""
	for one, err := range t.sorter.All() {
		if err != nil {
			return err
		}
		if one.Key == before {
			to := &totals.Twice
			if strings.HasSuffix(one.Key, " ") {
				to = &totals.Alike
			}
			to.Items++
			to.Bytes += one.Value
		}
		before = one.Key
	}
	return nil
}
