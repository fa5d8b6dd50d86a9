package messages

import (
	"errors"
	"os/exec"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"deftheron/core/remedy"
	"deftheron/core/store"
)

// TestUnwritable proposes what allows a service to write to a folder, in words and as commands that a
// shell takes as they are meant.
func TestUnwritable(t *testing.T) {
	if err := Unwritable(nil); err != nil {
		t.Error(err)
	}
	other := errors.New("other")
	if err := Unwritable(other); err != other {
		t.Errorf("another error became %v", err)
	}
	for path, setting := range map[string]string{
		"/srv/desk":            "ReadWritePaths=/srv/desk",
		"/srv/field surveys":   `ReadWritePaths="/srv/field surveys"`,
		`/srv/it's 100 % "it"`: `ReadWritePaths="/srv/it's 100 %% \"it\""`,
	} {
		err := Unwritable(&store.UnwritableError{Path: path, ReadOnlySystem: true, Err: unix.EROFS})
		_, advice := remedy.Of(err)
		if commands := CommandsOf(err); !strings.HasSuffix(advice, setting) || len(commands) != 3 {
			t.Errorf("%s: %q, %q", path, advice, commands)
		}
		write, _, _ := strings.Cut(CommandsOf(err)[1], " > /etc/systemd/system/heron.service.d/srv-")
		if out, failed := exec.Command("sh", "-c", write).Output(); failed != nil || string(out) != "[Service]\n"+setting+"\n" {
			t.Errorf("%s: the shell writes %q, %v", path, out, failed)
		}
		err = Unwritable(&store.UnwritableError{Path: path, Err: unix.EACCES})
		if commands := CommandsOf(err); len(commands) != 1 || !strings.HasPrefix(commands[0], "setfacl ") {
			t.Errorf("%s: %q", path, commands)
		}
		if store.KindOf(err) != store.ErrRefused || !strings.Contains(err.Error(), path) {
			t.Errorf("%s: %v", path, err)
		}
	}
}
