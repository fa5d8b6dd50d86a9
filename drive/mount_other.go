//go:build !linux

package drive

import (
	"context"

	"deftheron/core/remedy"
)

func mount(_ context.Context, _ string, options Options, _ func()) error {
	return remedy.Errorf("only Linux can mount the tree by FUSE; use the network drive (WebDAV) at %s, with a token as the password",
		options.Client.Drive().URL())
}
