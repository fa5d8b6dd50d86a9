package share

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"time"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("share").Funcs(template.FuncMap{
	"bytes": bytesWords,
	"when":  func(at time.Time) string { return at.UTC().Format("2006-01-02 15:04 UTC") },
}).Parse(pageText))

// Page is what somebody without an account sees. It works without script.
type Page struct {
	Nonce   string // of its style
	Title   string
	Say     string // what went wrong or well
	Failed  bool
	Locked  bool // it asks for the password
	DropOff bool
	Folder  bool
	Up      string // the folder above, as a URL; empty at the top
	Archive string // the URL of everything as a ZIP archive; empty for none
	Entries []Entry
	More    bool // there are more entries than are listed
	Largest int64
	Expires *time.Time
	Sent    []string // names of files that were sent
}

// Entry is a file or folder of a page.
type Entry struct {
	Name     string
	Folder   bool
	Open     string // the URL that opens it; empty if it cannot be looked at
	Download string // empty if it cannot be downloaded
	Size     int64
	Modified time.Time
}

// Write writes the page.
func (p Page) Write(w io.Writer) error { return pageTemplate.Execute(w, p) }

func bytesWords(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	value, unit := float64(max(0, n)), 0
	for value >= 1024 && unit < len(units)-1 {
		value /= 1024
		unit++
	}
	if n < 0 {
		return ""
	}
	if unit == 0 {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", value, units[unit])
}
