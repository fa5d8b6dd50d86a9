package transfer

import (
	"iter"
	"strings"

	"deftheron/core/plan"
	"deftheron/core/spill"
	"deftheron/core/store"
)

// moves finds out which of the files that a plan removes have only moved: another
// is made of them. Both are sorted, with what memory should not hold in scratch
// files.
type moves struct {
	origins, removed spill.Sorter[int64]
}

func (m *moves) add(step plan.Step) error {
	side := "there "
	if step.Back {
		side = "back "
	}
	if step.Origin != nil {
		if err := m.origins.Add(side+string(step.Origin.Key), "", 0); err != nil {
			return err
		}
	}
	if step.Action != plan.Remove || step.Kind == store.KindFolder {
		return nil
	}
	at := step.To
	if step.Back {
		at = step.Key
	}
	return m.removed.Add(side+string(at), "", max(0, step.Size()))
}

// count adds the files that have moved, and calls each with where they were: at the
// target, or for back at the source.
func (m *moves) count(moved *plan.Count, each func(back bool, at store.Key) error) error {
	next, stop := iter.Pull2(m.origins.All())
	defer stop()
	origin, err, more := next()
	for removed, failed := range m.removed.All() {
		if failed != nil {
			return failed
		}
		for more && err == nil && origin.Key < removed.Key {
			origin, err, more = next()
		}
		if err != nil {
			return err
		}
		if more && origin.Key == removed.Key {
			moved.Items++
			moved.Bytes += removed.Value
			side, at, _ := strings.Cut(removed.Key, " ")
			if err := each(side == "back", store.Key(at)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *moves) close() {
	m.origins.Close()
	m.removed.Close()
}
