package history

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"deftheron/core/store"
)

// A part has manifests, files of JSON Lines with one [line] for each change. They are never
// appended to: each holds at most [MostInManifest] changes, in the order in which they were
// made.

const (
	manifestPrefix = "manifest-"
	manifestSuffix = ".jsonl"
)

// MostInManifest is how many changes one manifest holds at most.
const MostInManifest = 1000

// ManifestName returns the name of a manifest in its part. first is the number of its first
// change: a manifest that was written but not recorded is written again under the same name.
func ManifestName(first int64) string {
	return fmt.Sprintf("%s%012d%s", manifestPrefix, first, manifestSuffix)
}

// IsManifest reports whether a name in a part's folder is of a manifest.
func IsManifest(name string) bool {
	return strings.HasPrefix(name, manifestPrefix) && strings.HasSuffix(name, manifestSuffix)
}

// line is a change in a manifest. Paths are as in addresses, without the account.
type line struct {
	Path     string     `json:"path"`
	Change   How        `json:"change"`
	At       time.Time  `json:"at"`
	Since    *time.Time `json:"since,omitempty"`
	Size     *int64     `json:"size,omitempty"`
	Modified *time.Time `json:"modified,omitempty"`
	Hash     string     `json:"hash,omitempty"`
	Kept     string     `json:"kept,omitempty"`
	Version  string     `json:"version,omitempty"`
	Revision string     `json:"revision,omitempty"`
	To       string     `json:"to,omitempty"`
	Run      string     `json:"run,omitempty"`
	Job      string     `json:"job,omitempty"`
	Locked   *time.Time `json:"locked,omitempty"`
	Enforced bool       `json:"enforced,omitempty"`
}

func timeOrNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// addressOf is a key as it is in addresses; empty of none.
func addressOf(key store.Key) string {
	if key == "" {
		return ""
	}
	kind := store.KindFile
	if strings.HasSuffix(string(key), "/") {
		kind = store.KindFolder
	}
	text := key.Ref("", kind).String()
	if kind == store.KindFolder {
		text += "/"
	}
	return text
}

// keyIn reads what addressOf wrote.
func keyIn(text string) (store.Key, error) {
	if text == "" {
		return "", nil
	}
	address, err := store.ParseAddress("/account" + text)
	if err != nil {
		return "", err
	}
	place, ok := address.Place()
	if !ok || place.IsStart() {
		return "", fmt.Errorf("%q is not the path of a file", text)
	}
	kind := store.KindFile
	if strings.HasSuffix(text, "/") {
		kind = store.KindFolder
	}
	return keyOf(place.As(kind)), nil
}

// EncodeManifest returns the manifest of changes.
func EncodeManifest(changes []Change) ([]byte, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	for _, c := range changes {
		l := line{Path: addressOf(c.Path), Change: c.How, At: c.At.UTC(), Since: timeOrNil(c.Since), Hash: c.Hash, Kept: addressOf(c.Kept),
			Version: c.Version, Revision: c.Revision, To: addressOf(c.To), Run: c.Run, Job: c.Job, Locked: timeOrNil(c.Locked), Enforced: c.Enforced}
		if c.HasContent() {
			l.Size, l.Modified = &c.Size, timeOrNil(c.Modified)
		}
		if err := encoder.Encode(l); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

// longestLine bounds a line of a manifest, in bytes: two paths and their metadata.
const longestLine = 128 << 10

// DecodeManifest calls each with the changes of a manifest. The error names the line that
// cannot be read; what comes before it has been passed on.
func DecodeManifest(r io.Reader, each func(Change) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 16<<10), longestLine)
	number := 0
	for lines.Scan() {
		number++
		change, err := decodeLine(lines.Bytes())
		if err != nil {
			return &LineError{number, err}
		}
		if err := each(change); err != nil {
			return err
		}
	}
	err := lines.Err()
	if errors.Is(err, bufio.ErrTooLong) {
		return &LineError{number + 1, err}
	}
	return err
}

// LineError is a line of a manifest that cannot be read.
type LineError struct {
	Line int
	err  error
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %v", e.Line, e.err) }

// Unwrap returns why.
func (e *LineError) Unwrap() error { return e.err }

func decodeLine(text []byte) (change Change, err error) {
	var l line
	decoder := json.NewDecoder(bytes.NewReader(text))
	if err := decoder.Decode(&l); err != nil {
		return change, err
	}
	change = Change{At: l.At, Since: timeOf(l.Since), How: l.Change, Modified: timeOf(l.Modified), Hash: l.Hash, Run: l.Run, Job: l.Job,
		Version: l.Version, Revision: l.Revision, Locked: timeOf(l.Locked), Enforced: l.Enforced}
	if l.Size != nil {
		change.Size = *l.Size
	}
	for _, one := range []struct {
		text string
		key  *store.Key
	}{{l.Path, &change.Path}, {l.Kept, &change.Kept}, {l.To, &change.To}} {
		if *one.key, err = keyIn(one.text); err != nil {
			return change, err
		}
	}
	switch {
	case change.Path == "" || change.At.IsZero():
		err = fmt.Errorf("a change needs a path and a time")
	case change.HasContent() && change.Kept == "":
		err = fmt.Errorf("the line does not say where the content of %s is", l.Path)
	case change.How == Superseded && change.Revision == "":
		err = fmt.Errorf("the line does not say which revision of %s it is", l.Kept)
	case change.HasContent() && change.Version == "" && change.How != Superseded &&
		!strings.HasPrefix(string(change.Kept), string(store.HistoryFolder)):
		err = fmt.Errorf("the content of %s is not below /%s", l.Path, strings.TrimSuffix(string(store.HistoryFolder), "/"))
	case change.How == Moved && change.To == "":
		err = fmt.Errorf("%s was moved, and the line does not say to where", l.Path)
	case !change.HasContent() && change.How != Created && change.How != Moved && change.How != Thinned:
		err = fmt.Errorf("%q is not a change", l.Change)
	}
	return change, err
}

// Numbered is a change with its number in the records.
type Numbered struct {
	Change
	Number int64
	Part   string
}

// Unlisted are the records' changes that no manifest lists yet.
type Unlisted interface {
	// Unlisted returns at most so many changes without a manifest, of one part of an account,
	// in the order of numbers: the changes of a run, or of any run if run is empty.
	Unlisted(ctx context.Context, account, run string, most int) ([]Numbered, error)
	// Listed records that a manifest lists some changes of a part.
	Listed(ctx context.Context, account string, changes []Numbered) error
}

// WriteManifests writes manifests of the changes of an account that have none, and reports
// how many changes they list.
func WriteManifests(ctx context.Context, s store.Store, account, run string, records Unlisted) (listed int, err error) {
	for {
		changes, err := records.Unlisted(ctx, account, run, MostInManifest)
		if err != nil || len(changes) == 0 {
			return listed, err
		}
		if err := writeManifest(ctx, s, run, changes); err != nil {
			return listed, err
		}
		if err := records.Listed(ctx, account, changes); err != nil {
			return listed, err
		}
		listed += len(changes)
	}
}

func writeManifest(ctx context.Context, s store.Store, run string, numbered []Numbered) error {
	changes := make([]Change, len(numbered))
	for i := range numbered {
		changes[i] = numbered[i].Change
	}
	folder := PartFolder(numbered[0].Part)
	return PutManifest(ctx, s, store.Folder{Path: folder}.Ref(ManifestName(numbered[0].Number)).As(store.KindFile), run, changes)
}

// PutManifest writes a manifest, and replaces one of the same name. run marks the leftovers of
// a process that dies.
func PutManifest(ctx context.Context, s store.Store, place store.Ref, run string, changes []Change) error {
	encoded, err := EncodeManifest(changes)
	if err != nil {
		return err
	}
	if s.Traits().Folders != store.FoldersImplied {
		var at store.Path
		for _, name := range place.Folder.Path.Names() {
			at = at.Child(name)
			if _, err := s.MakeFolder(ctx, at.Ref()); err != nil {
				return err
			}
		}
	}
	if run == "" {
		run = "manifest"
	}
	_, err = s.Write(ctx, store.Writing{Place: place, Size: int64(len(encoded)), If: store.Any, Run: run, Content: content(encoded)})
	return err
}

// content is a content that is held.
type content []byte

// Open implements store.Content.
func (c content) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(bytes.NewReader(c)), store.CRC64NVME, nil), nil
}
