// Package diagnosis looks at a service and the machine that it runs on, and says what is wrong and
// what to do about it. It changes nothing.
package diagnosis

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"deftheron/contract"
)

// The states of a check, the better first.
const (
	Good    = "good"
	Warning = "warning"
	Failed  = "failed"
)

// Records is the database of the service.
type Records interface {
	// Inspect returns an error that says what is damaged, and the version of SQLite. It ends with the
	// context's error if the time was too short to look at all.
	Inspect(ctx context.Context) (sqlite string, err error)
}

// Subject is what is looked at.
type Subject struct {
	// Data is the data folder.
	Data    string
	Records Records
	// Accounts are those that are linked, with their states.
	Accounts []contract.Account
	// Workers are all workers of the service.
	Workers []contract.Worker
	Version string
	Now     func() time.Time
}

const (
	// inspectFor is how long the records are inspected at most.
	inspectFor = 20 * time.Second
	// littleSpace is how many bytes free on the disk of the data folder are few, and tooLittleSpace too few.
	littleSpace, tooLittleSpace = 2 << 30, 200 << 20
	// fewFiles is how many open files are few for many connections.
	fewFiles = 4096
)

// Of looks at a subject.
func Of(ctx context.Context, subject Subject) contract.Diagnosis {
	d := contract.Diagnosis{At: subject.Now().UTC(), Version: subject.Version, State: Good}
	for _, check := range []func(context.Context, Subject) []contract.Diagnostic{records, space, private, clock, files, helpers, accounts,
		workers} {
		d.Checks = append(d.Checks, check(ctx, subject)...)
	}
	for _, one := range d.Checks {
		if one.State == Failed || one.State == Warning && d.State == Good {
			d.State = one.State
		}
	}
	return d
}

func one(name, state, remedy, format string, args ...any) []contract.Diagnostic {
	return []contract.Diagnostic{{Name: name, State: state, Found: fmt.Sprintf(format, args...), Remedy: remedy}}
}

func bytes(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// records inspects the database, and tells its size.
func records(ctx context.Context, subject Subject) []contract.Diagnostic {
	size := int64(0)
	for _, name := range []string{"heron.db", "heron.db-wal"} {
		if info, err := os.Stat(filepath.Join(subject.Data, name)); err == nil {
			size += info.Size()
		}
	}
	bounded, cancel := context.WithTimeout(ctx, inspectFor)
	defer cancel()
	sqlite, err := subject.Records.Inspect(bounded)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return one("records", Warning, "Check a backup of them, which takes as long as it needs: heron backup check FILE.",
			"The records take %s. They could not be checked whole within %s.", bytes(size), inspectFor)
	case err != nil:
		return one("records", Failed, "Stop the service, keep a copy of the data folder, and restore the newest backup: heron backup restore.",
			"The records are damaged: %v.", err)
	}
	return one("records", Good, "", "The records take %s and are whole (SQLite %s).", bytes(size), sqlite)
}

// space tells how full the disk of the data folder is, and what is in it.
func space(_ context.Context, subject Subject) []contract.Diagnostic {
	var disk unix.Statfs_t
	if err := unix.Statfs(subject.Data, &disk); err != nil {
		return one("disk", Failed, "Look whether the disk of the data folder is there.", "The data folder cannot be looked at: %v.", err)
	}
	free := int64(disk.Bavail) * disk.Bsize
	var used int64
	_ = filepath.WalkDir(subject.Data, func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			if info, err := entry.Info(); err == nil {
				used += info.Size()
			}
		}
		return nil // what goes while it is looked at does not count
	})
	state, remedy := Good, ""
	switch {
	case free < tooLittleSpace:
		state, remedy = Failed, "Make room at once: without it nothing can be recorded, and runs stop."
	case free < littleSpace:
		state, remedy = Warning, "Make room, or move the data folder to a larger disk."
	}
	return one("disk", state, remedy, "The data folder takes %s, and its disk has %s free.", bytes(used), bytes(free))
}

// private looks whether others can read what is secret.
func private(_ context.Context, subject Subject) []contract.Diagnostic {
	var open []string
	for _, name := range []string{"", "heron.db", "heron.db-wal", "heron.key", "owner.token"} {
		path := filepath.Join(subject.Data, name)
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
			open = append(open, path)
		}
	}
	if len(open) > 0 {
		return one("permissions", Failed, "Close them: chmod go-rwx "+strings.Join(open, " "), "Other users of this machine can read %s.",
			strings.Join(open, " and "))
	}
	return one("permissions", Good, "", "The data folder is the service's alone.")
}

// clock asks the kernel whether something keeps the clock right.
func clock(context.Context, Subject) []contract.Diagnostic {
	var state unix.Timex
	kept, err := unix.Adjtimex(&state)
	const wrong = 5 // TIME_ERROR: the clock is not synchronized
	if err != nil {
		return one("clock", Good, "", "It is %s. Whether the clock is synchronized is unknown.", time.Now().UTC().Format(time.RFC1123))
	}
	if kept == wrong {
		return one("clock", Warning, "Synchronize it, for example with systemd-timesyncd: sign-ins, schedules and locks depend on it.",
			"It is %s. The clock is not synchronized.", time.Now().UTC().Format(time.RFC1123))
	}
	return one("clock", Good, "", "It is %s. The clock is synchronized.", time.Now().UTC().Format(time.RFC1123))
}

// files looks at how many files may be open at once.
func files(context.Context, Subject) []contract.Diagnostic {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return nil
	}
	if limit.Cur < fewFiles {
		return one("open files", Warning, "Raise the limit: LimitNOFILE=65536 in the unit, or ulimit -n 65536.",
			"At most %d files and connections may be open at once.", limit.Cur)
	}
	return one("open files", Good, "", "Up to %d files and connections may be open at once.", limit.Cur)
}

// helpers looks for the programs that previews and the search use.
func helpers(_ context.Context, subject Subject) []contract.Diagnostic {
	system := runtime.GOOS + " " + runtime.GOARCH
	var kernel unix.Utsname
	if unix.Uname(&kernel) == nil {
		system = unix.ByteSliceToString(kernel.Sysname[:]) + " " + unix.ByteSliceToString(kernel.Release[:]) + ", " + runtime.GOARCH
	}
	checks := one("versions", Good, "", "Deft Heron %s, %s, %s.", subject.Version, runtime.Version(), system)
	for _, helper := range []struct{ name, use, from string }{
		{"pdftoppm", "previews of PDF files", "poppler-utils"}, {"pdftotext", "the text of PDF files with ligatures", "poppler-utils"},
		{"ffmpeg", "previews of films", "ffmpeg"},
	} {
		if _, err := exec.LookPath(helper.name); err != nil {
			checks = append(checks, contract.Diagnostic{Name: helper.name, State: Warning, Remedy: "Install the package " + helper.from + ".",
				Found: "The program is not installed, and there are no " + strings.TrimPrefix(helper.use, "the ") + "."})
		}
	}
	return checks
}

// accounts tells which cannot be used.
func accounts(_ context.Context, subject Subject) []contract.Diagnostic {
	var checks []contract.Diagnostic
	good := 0
	for _, account := range subject.Accounts {
		switch account.State {
		case "linked":
			good++
		case "suspended":
		default:
			why := account.State
			if account.Why != "" {
				why += ": " + account.Why
			}
			checks = append(checks, contract.Diagnostic{Name: account.Address, State: Failed, Found: contract.Sentence(why), Remedy: account.Remedy})
		}
		for _, warning := range account.Warnings {
			checks = append(checks, contract.Diagnostic{Name: account.Address, State: Warning, Found: contract.Sentence(warning.Why),
				Remedy: contract.Sentence(warning.Remedy)})
		}
	}
	if len(checks) == 0 && len(subject.Accounts) == 0 {
		return one("accounts", Good, "", "No account is linked yet.")
	}
	if len(checks) == 0 {
		return one("accounts", Good, "", "%d accounts can be used.", good)
	}
	return checks
}

// workers tells which do not work. A service without workers needs none.
func workers(_ context.Context, subject Subject) []contract.Diagnostic {
	var checks []contract.Diagnostic
	good := 0
	for _, worker := range subject.Workers {
		if worker.State == "connected" || worker.State == "draining" {
			good++
			continue
		}
		found := "The worker is " + worker.State
		if worker.Seen != nil && worker.State == "offline" {
			found += ", and was seen last at " + worker.Seen.UTC().Format(time.DateTime) + " UTC"
		}
		checks = append(checks, contract.Diagnostic{Name: "worker " + worker.Name, State: Warning, Found: found + ".",
			Remedy: strings.ReplaceAll(worker.Remedy, "NAME", worker.Name)})
	}
	if good > 0 && len(checks) == 0 {
		return one("workers", Good, "", "%d workers are connected.", good)
	}
	return checks
}
