package store

import "context"

// Sealing looks after an account whose contents and names are encrypted at the provider.
type Sealing interface {
	// Recipients are the public keys that everything is sealed to, one's own first.
	Recipients() []string
	// SetRecipients has everything that is written from now on sealed to one's own key and
	// to others.
	SetRecipients(ctx context.Context, others []string) error
	// NeedsReseal reports whether names are sealed to recipients of before.
	NeedsReseal() bool
	// Reseal seals the names to the recipients of now, and with contents the contents too.
	// It continues where it broke off. progress, if not nil, is called from time to time.
	Reseal(ctx context.Context, contents bool, progress func(Resealed)) (Resealed, error)
	// Rebuild makes what says where everything is again, where it is missing or damaged,
	// from the contents, as far as that is possible.
	Rebuild(ctx context.Context) (Rebuilt, error)
}

// Resealed counts what was sealed again.
type Resealed struct {
	Folders int64 // of which the names were
	Files   int64 // of which the contents were
	Bytes   int64
	Left    int64 // files that could not be read, and are as they were
}

// Rebuilt is the result of a rebuild.
type Rebuilt struct {
	Folders []Path // that were missing or damaged
	Files   int64  // that have their names again
	Unknown int64  // contents that do not say where they were
}
