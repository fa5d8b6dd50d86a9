// Package names gives what is copied the names that it has at a target.
//
// A [Translator] knows one account. Put makes of a name one that the account can
// hold, and Home makes of such a name the one that it stands for: the bytes that
// the account refuses are percent-encoded (RFC 3986, section 2.1), and nothing
// else is but what would then be read wrongly. Home(Put(name)) is name for every
// name that Put accepts, and two names never become one.
//
// A [Mapper] takes names from one account to another: home from the first, then
// put to the second. Where letter case does not count at the target, it tells
// twins apart; where a [Template] is given, it makes the names of that.
package names

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"deftheron/core/store"
)

// Translator translates the names of one account.
type Translator struct {
	traits store.Traits
	// refused remembers which characters are refused by themselves.
	refused map[rune]bool
}

// For returns a translator for an account of the traits given. It is for one
// goroutine.
func For(traits store.Traits) *Translator {
	return &Translator{traits: traits, refused: map[rune]bool{}}
}

// Put returns the name that stands for another in a folder of the account: the
// name itself, where the account can hold it. The error is ErrNameRefused, and
// tells why, for a name that cannot be translated, such as one that is too long.
func (t *Translator) Put(folder store.Path, name string) (string, error) {
	refusal := t.traits.NameError(folder, name)
	if strings.IndexByte(name, 0) >= 0 {
		return "", refusal // which no account holds
	}
	if refusal == nil {
		if escapes(name) == nil || !t.readAsTranslated(folder, name) {
			return name, nil
		}
		return t.encode(folder, name, escapes(name))
	}
	at := t.mustEncode(folder, name)
	if at == nil {
		return "", refusal
	}
	translated, err := t.encode(folder, name, at.and(escapes(name)))
	if err != nil {
		return "", refusal
	}
	return translated, nil
}

// Home returns the name that one in a folder of the account stands for: itself,
// unless it is one that Put, or Twin, makes.
func (t *Translator) Home(folder store.Path, name string) string {
	if escapes(name) != nil && t.readAsTranslated(folder, name) {
		home, _, _ := decode(name)
		return home
	}
	return name
}

// Twin returns a name for one that differs from another, which is taken, by letter
// case or Unicode form alone: the letters that differ are encoded.
func (t *Translator) Twin(folder store.Path, name, taken string) (string, error) {
	at := marks{}
	theirs := []rune(taken)
	aligned := utf8.RuneCountInString(name) == len(theirs)
	n := 0
	for i, r := range name {
		differs := foldable(r) && (!aligned || theirs[n] != r)
		if n++; differs {
			at.set(i, utf8.RuneLen(r))
		}
	}
	if len(at) == 0 {
		return "", store.Errorf(store.ErrNameRefused, "%q is %q already, and cannot be told from it", name, taken)
	}
	return t.encode(folder, name, at.and(t.mustEncode(folder, name)).and(escapes(name)))
}

// readAsTranslated reports whether a name is what Put or Twin make of another.
func (t *Translator) readAsTranslated(folder store.Path, name string) bool {
	home, encoded, ok := decode(name)
	if !ok || strings.IndexByte(home, 0) >= 0 {
		return false
	}
	must := t.mustEncode(folder, home)
	needed := must.and(escapes(home))
	for i := range needed {
		if !encoded[i] {
			return false
		}
	}
	reason := len(must) > 0
	for i := 0; i < len(home); {
		r, size := utf8.DecodeRuneInString(home[i:])
		for j := i; j < i+size; j++ {
			if encoded[j] != encoded[i] {
				return false // half a character
			}
		}
		if encoded[i] && !needed[i] {
			if !t.traits.CaseIgnored || !foldable(r) {
				return false
			}
			reason = true
		}
		i += size
	}
	if again, err := t.encode(folder, home, encoded); err != nil || again != name {
		return false
	}
	return reason || t.readAsTranslated(folder, home)
}

// mustEncode finds the bytes of a name without which the account holds it; none
// where it holds the name, or nothing helps.
func (t *Translator) mustEncode(folder store.Path, name string) marks {
	if t.traits.NameError(folder, name) == nil {
		return nil
	}
	at := marks{}
	for i := 0; i < len(name); {
		r, size := utf8.DecodeRuneInString(name[i:])
		if t.refusesAlone(r, name[i:i+size]) {
			at.set(i, size)
		}
		i += size
	}
	if t.holds(folder, name, at) {
		return at
	}
	// It is refused for where something is, or as a whole: one more character
	// encoded may do, then the first and the last, then all.
	last := 0
	all := marks{}
	for i := 0; i < len(name); {
		_, size := utf8.DecodeRuneInString(name[i:])
		all.set(i, size)
		last = i
		i += size
	}
	var ends marks
	for i := 0; i < len(name); {
		_, size := utf8.DecodeRuneInString(name[i:])
		one := at.and(nil)
		one.set(i, size)
		if t.holds(folder, name, one) {
			return one
		}
		if i == 0 || i == last {
			ends = one.and(ends)
		}
		i += size
	}
	for _, some := range []marks{ends, all} {
		if t.holds(folder, name, some) {
			return some
		}
	}
	return nil
}

func (t *Translator) holds(folder store.Path, name string, at marks) bool {
	_, err := t.encode(folder, name, at.and(escapes(name)))
	return err == nil
}

// refusesAlone reports whether a character is refused wherever it stands. raw are
// its bytes, as it may be none.
func (t *Translator) refusesAlone(r rune, raw string) bool {
	if r == utf8.RuneError && len(raw) == 1 {
		return t.traits.NameError("", "x"+raw+"x") != nil
	}
	refused, known := t.refused[r]
	if !known {
		refused = t.traits.NameError("", "x"+raw+"x") != nil
		if len(t.refused) > 4096 {
			clear(t.refused)
		}
		t.refused[r] = refused
	}
	return refused
}

// marks are the bytes of a name that are encoded.
type marks map[int]bool

func (m marks) set(i, n int) {
	for j := range n {
		m[i+j] = true
	}
}

func (m marks) and(other marks) marks {
	both := marks{}
	for i := range m {
		both[i] = true
	}
	for i := range other {
		both[i] = true
	}
	return both
}

// encode percent-encodes some bytes of a name, in capitals unless the account
// refuses those.
func (t *Translator) encode(folder store.Path, name string, at marks) (string, error) {
	encoded := percent(name, at, "0123456789ABCDEF")
	err := t.traits.NameError(folder, encoded)
	if err != nil && t.traits.NameError("", "xAx") != nil {
		encoded = percent(name, at, "0123456789abcdef")
		err = t.traits.NameError(folder, encoded)
	}
	return encoded, err
}

func percent(name string, at marks, digits string) string {
	var b strings.Builder
	for i := range len(name) {
		if at[i] {
			b.Write([]byte{'%', digits[name[i]>>4], digits[name[i]&15]})
		} else {
			b.WriteByte(name[i])
		}
	}
	return b.String()
}

// escapes are the percent signs of a name that would be read as encoding.
func escapes(name string) marks {
	var at marks
	for i := strings.IndexByte(name, '%'); i >= 0 && i+2 < len(name); i++ {
		if name[i] == '%' && isHex(name[i+1]) && isHex(name[i+2]) {
			if at == nil {
				at = marks{}
			}
			at[i] = true
		}
	}
	return at
}

func isHex(c byte) bool { return unhex(c) >= 0 }

func unhex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// decode decodes all that is encoded in a name, and says which bytes were.
func decode(name string) (decoded string, encoded marks, any bool) {
	encoded = marks{}
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] == '%' && i+2 < len(name) && isHex(name[i+1]) && isHex(name[i+2]) {
			encoded[b.Len()] = true
			b.WriteByte(byte(unhex(name[i+1])<<4 | unhex(name[i+2])))
			i += 2
			continue
		}
		b.WriteByte(name[i])
	}
	return b.String(), encoded, len(encoded) > 0
}

// foldable reports whether a character may differ by letter case or Unicode form.
func foldable(r rune) bool { return unicode.IsLetter(r) || unicode.IsMark(r) }

// Fold returns what two names have in common that differ in letter case alone.
func Fold(name string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf {
			if r >= 'A' && r <= 'Z' {
				return r + 'a' - 'A'
			}
			return r
		}
		least := r
		for other := unicode.SimpleFold(r); other != r; other = unicode.SimpleFold(other) {
			least = min(least, other)
		}
		if least >= 'A' && least <= 'Z' {
			least += 'a' - 'A'
		}
		return least
	}, name)
}
