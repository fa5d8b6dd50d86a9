// Package drive mounts the tree of a service as a file system. Mount is all that a caller needs; where
// the system has no FUSE, it says how to use the network drive of the service instead.
//
// A file that is written gets its new content when it is closed, whole or not at all: closing returns
// the error if the service could not keep it. What could not be kept stays in the folder of Options.Unsaved.
// A file is read in ranges as they are needed, of one content: if it changes meanwhile, reading fails.
package drive

import (
	"context"
	"log/slog"

	"deftheron/client"
)

// Options say what is mounted.
type Options struct {
	// Client is signed in to the service.
	Client *client.Client
	// Start is the address of the folder that is mounted; empty is the whole tree.
	Start string
	// ReadOnly refuses every change.
	ReadOnly bool
	// Others lets the other users of this machine use the mount too.
	Others bool
	// Unsaved is a folder for contents that are being written. It is made if it is missing.
	Unsaved string
	Log     *slog.Logger
}

// Mount mounts the tree at a folder, calls ready once it is there, and returns after it was unmounted,
// by somebody or because the context ended.
func Mount(ctx context.Context, folder string, options Options, ready func()) error {
	return mount(ctx, folder, options, ready)
}
