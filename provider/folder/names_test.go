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
	for _, number := range []int{0, 1, 99, 100, 101, 1000} {
		names := sorted{most: 100}
		defer names.sorter.Close()
		var want []child
		for i := range number {
			// "a" is before "a-" and "a/" after it.
			one := child{fmt.Sprintf("%d%.*s", i%301, i/301, "-.~"), i%3 == 0}
			want = append(want, one)
		}
		rand.Shuffle(len(want), func(i, j int) { want[i], want[j] = want[j], want[i] })
		for _, one := range want {
			if err := names.add(one.name, one.folder); err != nil {
				t.Fatal(err)
			}
		}
		if len(names.held) > 100 {
			t.Errorf("%d of %d names are held in memory", len(names.held), number)
		}
		slices.SortFunc(want, func(a, b child) int {
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
