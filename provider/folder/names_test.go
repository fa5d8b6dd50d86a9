package folder

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"deftheron/core/store"
)

// TestSortedNames sorts names that memory holds and names that it does not, folders and
// files among them.
func TestSortedNames(t *testing.T) {
	const most = 700_000
	for _, number := range []int{0, 1, 99, fewNames, 2*fewNames + 1, 20_000, 40_000} {
		names := sorted{most: most}
		defer names.sorter.Close()
		type named struct {
			name   string
			folder bool
		}
		var want []named
		for i := range number {
			// "a" is before "a-" and "a/" after it.
			want = append(want, named{fmt.Sprintf("%d%.*s", i%15_000, i/15_000, "-.~"), i%3 == 0})
		}
		rand.Shuffle(len(want), func(i, j int) { want[i], want[j] = want[j], want[i] })
		for _, one := range want {
			if err := names.add([]byte(one.name), one.folder); err != nil {
				t.Fatal(err)
			}
		}
		if held := len(names.first) + len(names.held); held*childSize > most || (held == 0) != (number == 0 || number == 40_000) {
			t.Errorf("%d of %d names are held in memory", held, number)
		}
		if len(names.blocks) > 10 {
			t.Errorf("the bytes of %d names are in %d blocks", number, len(names.blocks))
		}
		slices.SortFunc(want, func(a, b named) int {
			if store.LessInFolder(a.name, a.folder, b.name, b.folder) {
				return -1
			}
			return 1
		})
		at := 0
		for name, err := range names.all() {
			if err != nil {
				t.Fatal(err)
			}
			if at == len(want) || name != want[at].name {
				t.Fatalf("of %d names, %q came as number %d", number, name, at)
			}
			at++
		}
		if at != number {
			t.Errorf("%d of %d names came", at, number)
		}
	}
}
