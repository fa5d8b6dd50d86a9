package ftp

import (
	"strings"
	"testing"
	"time"

	"deftheron/core/store"
)

func TestParseFacts(t *testing.T) {
	when := time.Date(2024, 2, 29, 23, 59, 58, 0, time.UTC)
	for line, want := range map[string]store.Entry{
		"type=file;size=12;modify=20240229235958; a b.txt":            {Name: "a b.txt", Kind: store.KindFile, Size: 12, Modified: when},
		"Type=dir;Modify=20240229235958.123;UNIX.mode=0755;  leading": {Name: " leading", Kind: store.KindFolder, Size: -1, Modified: when},
		"type=OS.unix=slink:/x;size=1;modify=20240229235958; link":    {Name: "link", Kind: store.KindOther, Size: 1, Modified: when},
		"type=file;modify=20240229235958;perm=adfr;unique=1; a;b=c; d.txt ": {Name: "a;b=c; d.txt ", Kind: store.KindFile, Size: -1,
			Modified: when},
	} {
		got, itself, err := parseFacts(line)
		if err != nil || itself || got.Name != want.Name || got.Kind != want.Kind || got.Size != want.Size || !got.Modified.Equal(want.Modified) {
			t.Errorf("%q: %+v, %v, %v; want %+v", line, got, itself, err, want)
		}
	}
	for _, line := range []string{"", "a.txt", "size=1; a", "type=file;size=x; a", "type=file;size=-1; a", "type=file;modify=yesterday; a",
		"type; a", "type=file; "} {
		if got, _, err := parseFacts(line); err == nil {
			t.Errorf("%q was read as %+v", line, got)
		}
	}
	if _, itself, err := parseFacts("type=cdir;modify=20240229235958; /places"); !itself || err != nil {
		t.Errorf("the folder itself: %v, %v", itself, err)
	}
}

// TestNoLineIsLost wants an error of a listing with a line that cannot be read, not
// a listing without it.
func TestNoLineIsLost(t *testing.T) {
	listing := "type=file;size=1;modify=20240229235958; a\r\nsomething else\r\ntype=file;size=1;modify=20240229235958; b\r\n"
	if entries, err := parseLines(listing, parseFacts); err == nil {
		t.Errorf("read as %+v", entries)
	}
	if n := countLines("total 12\r\n-rw-r--r-- 1 a b 1 Jan 1 2020 x\r\n\r\ndrwx?\r\n"); n != 2 {
		t.Errorf("%d lines, want 2", n)
	}
}

func FuzzParseFacts(f *testing.F) {
	f.Add("type=file;size=12;modify=20240229235958; a b.txt")
	f.Add("type=dir; x")
	f.Fuzz(func(t *testing.T, line string) {
		entry, itself, err := parseFacts(line)
		if err == nil && !itself && (entry.Name == "" || entry.Kind == "" || entry.Size < -1 || !strings.HasSuffix(line, entry.Name)) {
			t.Errorf("%q: %+v", line, entry)
		}
	})
}
