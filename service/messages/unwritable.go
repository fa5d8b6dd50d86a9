package messages

import (
	"errors"
	"os/user"
	"strings"

	"deftheron/core/store"
)

// Unwritable adds to an error of a folder of this machine that the service may not write to what to
// do about it. Other errors, and nil, are returned as they are.
func Unwritable(err error) error {
	var wrong *store.UnwritableError
	if !errors.As(err, &wrong) {
		return err
	}
	who := "heron" // as the packages have it
	if current, failed := user.Current(); failed == nil {
		who = current.Username
	}
	if wrong.ReadOnlySystem { // to the unit of the packages, all of the system is
		dropIn := "/etc/systemd/system/heron.service.d/" + unitName(wrong.Path) + ".conf"
		return With(store.Errorf(store.ErrRefused, "%w; link it read-only, or, if a systemd unit runs the service, allow it in the unit: %s",
			wrong, unitSetting(wrong.Path)),
			"mkdir -p /etc/systemd/system/heron.service.d",
			"printf '[Service]\\n%s\\n' "+quoted(unitSetting(wrong.Path))+" > "+dropIn,
			"systemctl daemon-reload && systemctl restart heron")
	}
	return With(store.Errorf(store.ErrRefused, "%w; link it read-only, or let the service's user, %s, write there", wrong, who),
		"setfacl -R -m u:"+who+":rwX -m d:u:"+who+":rwX "+quoted(wrong.Path))
}

// unitSetting is the setting of a systemd unit with which it may write to a folder (systemd.exec(5),
// ReadWritePaths=).
func unitSetting(path string) string {
	path = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%").Replace(path)
	if strings.ContainsAny(path, " \t\"\\'") {
		path = `"` + path + `"`
	}
	return "ReadWritePaths=" + path
}

// unitName is a name for a drop-in about a folder.
func unitName(path string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' {
			return r
		}
		return '-'
	}, path), "-")
}

// quoted is a word for a POSIX shell.
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }
