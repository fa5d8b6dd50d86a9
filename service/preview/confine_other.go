//go:build !linux

package preview

import (
	"errors"
	"os/exec"
)

// sandboxed says that this system cannot confine a child: no previews are made.
const sandboxed = false

func isolate(*exec.Cmd, bool) {}

func confine() error { return errors.ErrUnsupported }

func become([]string) error { return errors.ErrUnsupported }
