package history

import "context"

// Doomed are changes that go, all of one manifest, and what the manifest lists after that.
type Doomed struct {
	Part     string
	Manifest int64 // 0: they are in none
	Gone     []Going
	Stay     []Change
}

// Going is a change that is removed, or whose content is.
type Going struct {
	Numbered
	Decision Decision
}

// Thinning are the records of an account's history from which changes are removed. What goes
// has been marked; the marks outlive a process.
type Thinning interface {
	// TakeDoomed returns changes that are marked; none at the end.
	TakeDoomed(ctx context.Context) (Doomed, error)
	// DropDoomed removes them, and reports whether their part has no changes any more.
	DropDoomed(ctx context.Context, doomed Doomed) (last bool, err error)
}
