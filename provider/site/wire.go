package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"deftheron/core/remedy"
	"deftheron/core/store"
)

// Protocol is the version of what a service and its workers say to each other. Both sides
// need the same one.
const Protocol = 1

// What is sent is CBOR (RFC 8949). Names are byte strings, as they need not be UTF-8.
var (
	encoding = must(cbor.EncOptions{String: cbor.StringToByteString, Time: cbor.TimeRFC3339NanoUTC}.EncMode())
	decoding = must(cbor.DecOptions{
		ByteStringToString: cbor.ByteStringToStringAllowed, MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 16, MaxNestedLevels: 16,
	}.DecMode())
)

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

// encode encodes what is of our own types, which cannot fail.
func encode(value any) []byte { return must(encoding.Marshal(value)) }

// decode decodes what came from the other side.
func decode(data []byte, into any) error {
	if err := decoding.Unmarshal(data, into); err != nil {
		return store.Errorf(store.ErrTryAgain, "what the other side sent cannot be read: %w", err)
	}
	return nil
}

// request asks a worker for something.
type request struct {
	// Account is the id of the account, and Generation of the state in which it was opened last.
	Account, Generation string
	// Operation is the name of the operation; see operations.
	Operation string
	Arguments cbor.RawMessage `cbor:",omitempty"`
	// Lock is shown to the server, where it is not nil.
	Lock *wireLock `cbor:",omitempty"`
}

// end ends an answer, and a content.
type end struct {
	Value cbor.RawMessage `cbor:",omitempty"`
	Error *wireError      `cbor:",omitempty"`
	// Description describes the account, if that has changed.
	Description *description `cbor:",omitempty"`
}

func writeEnd(w io.Writer, ended end) error { return writeFrame(w, frameEnd, encode(ended)) }

func readEnd(payload []byte) (ended end, err error) {
	return ended, decode(payload, &ended)
}

// ref is a store.Ref.
type ref struct {
	_     struct{} `cbor:",toarray"`
	Path  string
	In    string // the id of the folder
	Name  string
	ID    string
	Kind  string
	Start bool
}

func refOf(r store.Ref) ref {
	return ref{Path: string(r.Folder.Path), In: r.Folder.ID, Name: r.Name, ID: r.ID, Kind: string(r.Kind), Start: r.IsStart()}
}

func (r ref) ref() store.Ref {
	var of store.Ref
	if !r.Start {
		of = store.Folder{Path: store.Path(r.Path), ID: r.In}.Ref(r.Name)
		of.ID = r.ID
	}
	return of.As(store.Kind(r.Kind))
}

// folder is a store.Folder.
type folder struct {
	_    struct{} `cbor:",toarray"`
	Path string
	ID   string
}

func folderOf(f store.Folder) folder { return folder{Path: string(f.Path), ID: f.ID} }

func (f folder) folder() store.Folder { return store.Folder{Path: store.Path(f.Path), ID: f.ID} }

// moment is a time: seconds since 1970 and nanoseconds; nil is the zero time.
type moment []int64

func momentOf(t time.Time) moment {
	if t.IsZero() {
		return nil
	}
	return moment{t.Unix(), int64(t.Nanosecond())}
}

func (m moment) time() time.Time {
	if len(m) != 2 {
		return time.Time{}
	}
	return time.Unix(m[0], m[1])
}

// entry is a store.Entry and, in a flat listing, where it was listed.
type entry struct {
	_         struct{} `cbor:",toarray"`
	Below     string
	Name      string
	Kind      string
	ID        string
	Size      int64
	Modified  moment
	Revision  string
	Identity  string
	Hashes    []string
	Document  string
	Elsewhere bool
	HasShares bool
}

func entryOf(e store.Entry) entry {
	of := entry{Name: e.Name, Kind: string(e.Kind), ID: e.ID, Size: e.Size, Modified: momentOf(e.Modified), Revision: e.Revision,
		Identity: e.Identity, Document: e.Document, Elsewhere: e.Elsewhere, HasShares: e.HasShares}
	for _, hash := range e.Hashes {
		of.Hashes = append(of.Hashes, hash.String())
	}
	return of
}

func (e entry) entry() store.Entry {
	of := store.Entry{Name: e.Name, Kind: store.Kind(e.Kind), ID: e.ID, Size: e.Size, Modified: e.Modified.time(), Revision: e.Revision,
		Identity: e.Identity, Document: e.Document, Elsewhere: e.Elsewhere, HasShares: e.HasShares}
	for _, text := range e.Hashes {
		if hash, ok := store.ParseHash(text); ok {
			of.Hashes = append(of.Hashes, hash)
		}
	}
	return of
}

func listedOf(l store.Listed) entry {
	of := entryOf(l.Entry)
	of.Below = string(l.Below)
	return of
}

func (e entry) listed() store.Listed {
	return store.Listed{Below: store.Path(e.Below), Entry: e.entry()}
}

// wireLock is a store.ShownLock.
type wireLock struct {
	Ref   ref
	Token string
}

// kinds are the codes of the kinds of errors.
var kinds = map[string]error{
	"not-found": store.ErrNotFound, "exists": store.ErrExists, "changed": store.ErrChanged, "refused": store.ErrRefused,
	"sign-in-expired": store.ErrSignInExpired, "suspended": store.ErrSuspended, "no-space": store.ErrNoSpace,
	"name-refused": store.ErrNameRefused, "too-large": store.ErrTooLarge, "slow-down": store.ErrSlowDown, "try-again": store.ErrTryAgain,
	"outcome-unknown": store.ErrOutcomeUnknown, "locked": store.ErrLocked, "replaced": store.ErrReplaced,
	"unsupported": store.ErrUnsupported,
}

// wireError is an error of a store.
type wireError struct {
	Kind    string        `cbor:",omitempty"`
	Wrong   string        `cbor:",omitempty"`
	Remedy  string        `cbor:",omitempty"`
	Wait    time.Duration `cbor:",omitempty"`
	Options []string      `cbor:",omitempty"` // that the error concerns
}

// slowed is what store.SlowDown says before its cause.
const slowed = "asked to slow down: "

func wireErrorOf(err error) *wireError {
	if err == nil {
		return nil
	}
	wire := &wireError{Wait: store.Wait(err), Options: store.OptionsOf(err)}
	wire.Wrong, wire.Remedy = remedy.Of(err)
	of := store.KindOf(err)
	if of == nil && (errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled)) {
		of = store.ErrTryAgain // the worker's time for it is over, or the worker ends
	}
	for code, kind := range kinds {
		if kind == of {
			wire.Kind = code
		}
	}
	return wire
}

func (e *wireError) error() error {
	if e == nil {
		return nil
	}
	kind, known := kinds[e.Kind]
	var err error
	switch {
	case kind == store.ErrSlowDown && strings.HasPrefix(e.Wrong, slowed):
		err = store.SlowDown(e.Wait, errors.New(strings.TrimPrefix(e.Wrong, slowed)))
	case known && e.Remedy != "":
		err = store.Errorf(kind, "%s; %s", e.Wrong, e.Remedy)
	case known:
		err = store.Errorf(kind, "%s", e.Wrong)
	case e.Remedy != "":
		err = remedy.Errorf("%s; %s", e.Wrong, e.Remedy)
	default:
		err = errors.New(e.Wrong)
	}
	switch len(e.Options) {
	case 0:
		return err
	case 1:
		if !known {
			reason := e.Wrong
			if e.Remedy != "" {
				reason = fmt.Sprint(e.Wrong, "; ", e.Remedy)
			}
			return &store.OptionError{Option: e.Options[0], Reason: reason}
		}
	}
	return store.Concerns(err, e.Options...)
}
