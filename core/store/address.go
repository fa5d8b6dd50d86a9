package store

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Address is a place in the tree of all accounts. Its text form is
// "/account/name/name": "/" alone is the root of the tree.
//
// Within a step, "%2F" is a slash in the name, and "%" is written "%25" only
// where it stands before "2F", "25" or, at the start of a step, "id=". The
// step "%id=ID" names a child by its id. A name that is not UTF-8, which no text can
// hold, is its own id: "%id=bytes:" and the name, in which "%FF" is a byte that is not
// of a character, "%2F" a slash and "%25" a percent sign. Nothing else is escaped and
// nothing is collapsed: "." and ".." are names. One closing slash means the folder
// itself, so that a folder with the empty name is written with two.
type Address struct {
	// Account is empty for the root of the tree.
	Account string
	Steps   []Step
	// Folder is set if the address means the folder, where a file may have the
	// same name. It is written as a closing slash.
	Folder bool
}

// Step is one step of an address: a name or an id.
type Step struct {
	Name string
	ID   string
}

var accountName = regexp.MustCompile(`^[a-z0-9-]{1,40}$`)

// CheckAccountName returns an error that says what an account may be called.
func CheckAccountName(name string) error {
	if !accountName.MatchString(name) {
		return fmt.Errorf("%q cannot be an account's name: use 1 to 40 lower-case letters, digits and hyphens", name)
	}
	return nil
}

// ParseAddress parses an address. The error says what is wrong with it.
func ParseAddress(text string) (Address, error) {
	if text == "" {
		return Address{}, errors.New("an address is empty: write it as /account/folder/file")
	}
	if text[0] != '/' {
		return Address{}, fmt.Errorf("%q is not an address: an address begins with / and an account's name, as in /desk/Reports", text)
	}
	if strings.IndexByte(text, 0) >= 0 {
		return Address{}, fmt.Errorf("the address %q holds a NUL byte", text)
	}
	rest := text[1:]
	if rest == "" {
		return Address{}, nil
	}
	account, tail, more := strings.Cut(rest, "/")
	if err := CheckAccountName(account); err != nil {
		return Address{}, fmt.Errorf("%q is not an address: %w", text, err)
	}
	address := Address{Account: account}
	if !more {
		return address, nil
	}
	if tail == "" {
		return address, nil
	}
	tail, address.Folder = strings.CutSuffix(tail, "/")
	for _, raw := range strings.Split(tail, "/") {
		address.Steps = append(address.Steps, parseStep(raw))
	}
	if address.Steps[len(address.Steps)-1] == (Step{}) {
		address.Folder = false // the slash belongs to the empty name
	}
	return address, nil
}

// MakeAddress returns the address of the place in an account.
func MakeAddress(account string, place Ref) Address {
	address := Address{Account: account}
	if place.IsStart() {
		return address
	}
	for _, name := range append(place.Folder.Path.Names(), place.Name) {
		address.Steps = append(address.Steps, Step{Name: name})
	}
	return address
}

// String returns the text form, which ParseAddress reads back.
func (a Address) String() string {
	if a.Account == "" {
		return "/"
	}
	var b strings.Builder
	b.WriteByte('/')
	b.WriteString(a.Account)
	for _, step := range a.Steps {
		b.WriteByte('/')
		b.WriteString(step.String())
	}
	if n := len(a.Steps); n > 0 && (a.Folder || a.Steps[n-1] == (Step{})) {
		b.WriteByte('/')
	}
	return b.String()
}

// String returns the step as it stands in an address.
func (s Step) String() string {
	if s.ID != "" {
		return "%id=" + escapeSlashes(s.ID)
	}
	return escapeStep(s.Name)
}

// IsRoot reports whether the address is the root of the tree.
func (a Address) IsRoot() bool { return a.Account == "" }

// Name is the last step's name; the account's name at an account's start.
func (a Address) Name() string {
	if len(a.Steps) == 0 {
		return a.Account
	}
	return a.Steps[len(a.Steps)-1].Name
}

// Child returns the address of the entry called name in a.
func (a Address) Child(name string) Address {
	steps := append(append([]Step(nil), a.Steps...), Step{Name: name})
	return Address{Account: a.Account, Steps: steps}
}

// ByID returns the address of the entry in a that has an id.
func (a Address) ByID(id string) Address {
	steps := append(append([]Step(nil), a.Steps...), Step{ID: id})
	return Address{Account: a.Account, Steps: steps}
}

// Parent returns the address of the folder that a is in; the root is in itself.
func (a Address) Parent() Address {
	if len(a.Steps) == 0 {
		return Address{}
	}
	return Address{Account: a.Account, Steps: a.Steps[:len(a.Steps)-1]}
}

// Contains reports whether other is a or below it. It compares names only.
func (a Address) Contains(other Address) bool {
	if a.IsRoot() {
		return true
	}
	if a.Account != other.Account || len(a.Steps) > len(other.Steps) {
		return false
	}
	for i, step := range a.Steps {
		if step != other.Steps[i] {
			return false
		}
	}
	return true
}

// Place returns the place that the address names in its account. ok is false
// where a step is an id, which only the store can look up.
func (a Address) Place() (place Ref, ok bool) {
	names := make([]string, len(a.Steps))
	for i, step := range a.Steps {
		if step.ID != "" {
			return Ref{}, false
		}
		names[i] = step.Name
	}
	ref := At(names...)
	if a.Folder {
		ref = ref.As(KindFolder)
	}
	return ref, true
}

func parseStep(raw string) Step {
	if escaped, ok := strings.CutPrefix(raw, bytesStep); ok {
		if name, err := url.PathUnescape(escaped); err == nil && !utf8.ValidString(name) {
			return Step{Name: name}
		}
	}
	if id, ok := strings.CutPrefix(raw, "%id="); ok && id != "" {
		return Step{ID: unescape(id)}
	}
	if rest, ok := strings.CutPrefix(raw, "%25id="); ok {
		return Step{Name: "%id=" + unescape(rest)}
	}
	return Step{Name: unescape(raw)}
}

var (
	unescape      = strings.NewReplacer("%2F", "/", "%25", "%").Replace
	escapeSlashes = strings.NewReplacer("%2F", "%252F", "%25", "%2525", "/", "%2F").Replace
)

// bytesStep begins a step whose name is not UTF-8.
const bytesStep = "%id=bytes:"

func escapeBytes(name string) string {
	var b strings.Builder
	b.WriteString(bytesStep)
	for i, size := 0, 0; i < len(name); i += size {
		var r rune
		r, size = utf8.DecodeRuneInString(name[i:])
		switch {
		case r == utf8.RuneError && size == 1, r == '/', r == '%':
			fmt.Fprintf(&b, "%%%02X", name[i])
		default:
			b.WriteString(name[i : i+size])
		}
	}
	return b.String()
}

func escapeStep(name string) string {
	if !utf8.ValidString(name) {
		return escapeBytes(name)
	}
	if rest, ok := strings.CutPrefix(name, "%id="); ok {
		return "%25id=" + escapeSlashes(rest)
	}
	return escapeSlashes(name)
}
