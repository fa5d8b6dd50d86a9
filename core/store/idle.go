package store

import "context"

type idleKey struct{}

// WithIdle returns a context under which a store says by [Idle] that a request only
// waits for what many wait for together, such as the disk. idle is called at most once.
func WithIdle(ctx context.Context, idle func()) context.Context {
	return context.WithValue(ctx, idleKey{}, idle)
}

// Idle reports that the request under ctx needs almost no processor time and no
// connection until it ends: its caller may start other work meanwhile.
func Idle(ctx context.Context) {
	if idle, ok := ctx.Value(idleKey{}).(func()); ok {
		idle()
	}
}

// CanIdle reports whether [Idle] under ctx lets other work be taken up.
func CanIdle(ctx context.Context) bool {
	_, ok := ctx.Value(idleKey{}).(func())
	return ok
}
