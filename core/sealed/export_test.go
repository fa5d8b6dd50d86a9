package sealed

import (
	"context"

	"deftheron/core/store"
)

// Opens reports whether keys open the header of an age file.
func Opens(keys Keys, file []byte) bool {
	_, err := keys.openSeal(file)
	return err == nil
}

// IDOf is the id of the folder at a path.
func IDOf(ctx context.Context, p *Place, at store.Path) string {
	id, _ := p.resolve(ctx, at)
	return id
}

// SetWorkFactor has passphrases cost less, until the function returned is called.
func SetWorkFactor(factor int) (restore func()) {
	before := workFactor
	workFactor = factor
	return func() { workFactor = before }
}

// SetMostIndexed has less held in memory, until the function returned is called.
func SetMostIndexed(entries int) (restore func()) {
	before := mostIndexed
	mostIndexed = entries
	return func() { mostIndexed = before }
}

// FoldersHeld is how many folders are in memory.
func FoldersHeld(p *Place) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.folders)
}
