package transfer

import (
	"fmt"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/spill"
	"deftheron/core/store"
)

// twins counts the files of a plan that are identical, or may be, for runs that keep
// identical files once. They are sorted by size and hash, in a scratch file if they are
// too many for memory.
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

// count adds the files that equal an earlier one by hash, and those that may, by their size.
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
