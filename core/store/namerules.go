package store

import (
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// NameRules say which names an account can hold, as data: the same rules hold on both sides
// of a connection to a worker. The zero value allows what [CheckName] does.
type NameRules struct {
	// Keeper is what holds the names, for errors, such as "a share".
	Keeper string
	// NoEmpty refuses the empty name, NoSteps "." and "..", and NoSlashes a slash in a name.
	NoEmpty, NoSteps, NoSlashes bool
	// UTF8 refuses names that are not UTF-8, and NoControls those with a control character.
	UTF8, NoControls bool
	// Without are characters that no name has, and NoLast those that no name ends in.
	Without, NoLast string
	// NoDotFirst refuses a dot at the beginning, but for what [ArrivingName] makes.
	NoDotFirst bool
	// NoDevices refuses the names of devices on Windows (MS-FSCC, section 2.1.5).
	NoDevices bool
	// NoCapitals refuses capital letters, which would come back as small ones.
	NoCapitals bool
	// Form is the Unicode form that names are turned into, "nfc" or "nfd"; empty for none.
	Form string
	// Patterns refuse the names that they match.
	Patterns []*regexp.Regexp
	// The most bytes in UTF-8, characters, and units in UTF-16 of a name; 0 for no limit.
	MostBytes, MostCharacters, MostUnits int
	// MostKeyBytes is the most bytes of a path, without a slash at its beginning, and MostPath
	// the most characters of one with it; 0 for no limit. The names in Start come before it.
	MostKeyBytes, MostPath int
	Start                  Path
	// Deepest is the most folders below one another; 0 for no limit.
	Deepest int
}

// Check returns ErrNameRefused, with the reason, for a name that the account cannot hold in
// a folder.
func (r *NameRules) Check(folder Path, name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if err := r.checkCharacters(name); err != nil {
		return err
	}
	if err := r.checkForm(name); err != nil {
		return err
	}
	return r.checkLength(folder, name)
}

func (r *NameRules) checkCharacters(name string) error {
	refuse := func(why string, args ...any) error { return Errorf(ErrNameRefused, why, args...) }
	switch {
	case name == "" && r.NoEmpty:
		return refuse("%s cannot hold an entry with an empty name", r.Keeper)
	case r.NoSteps && (name == "." || name == ".."):
		return refuse("the name %q is a step in a path, and %s cannot hold it", name, r.Keeper)
	case r.NoSlashes && strings.Contains(name, "/"):
		return refuse("%q has a slash, which separates names at %s", name, r.Keeper)
	case r.UTF8 && !utf8.ValidString(name):
		return refuse("%q is not UTF-8, which names at %s must be", name, r.Keeper)
	case strings.ContainsAny(name, r.Without):
		at := strings.IndexAny(name, r.Without)
		character, _ := utf8.DecodeRuneInString(name[at:])
		return refuse("%q has the character %q, which %s does not hold", name, character, r.Keeper)
	case r.NoControls && strings.ContainsFunc(name, func(c rune) bool { return c < 0x20 }):
		return refuse("%q has a control character, which %s does not hold", name, r.Keeper)
	case r.NoDotFirst && strings.HasPrefix(name, ".") && !strings.HasPrefix(name, ArrivingPrefix):
		return refuse("%q begins with a dot, and %s would not list it", name, r.Keeper)
	}
	if last, _ := utf8.DecodeLastRuneInString(name); name != "" && strings.ContainsRune(r.NoLast, last) {
		return refuse("%q ends in %q, which %s does not keep", name, last, r.Keeper)
	}
	return nil
}

func (r *NameRules) checkForm(name string) error {
	refuse := func(why string, args ...any) error { return Errorf(ErrNameRefused, why, args...) }
	switch {
	case r.NoDevices && isDevice(name):
		return refuse("%q is the name of a device on Windows, which %s does not hold", name, r.Keeper)
	case r.NoCapitals && strings.ToLower(name) != name:
		return refuse("%q has capital letters, which %s does not keep", name, r.Keeper)
	case r.Form == "nfc" && !norm.NFC.IsNormalString(name):
		return refuse("%q is not in the Unicode form NFC, which %s turns all names into", name, r.Keeper)
	case r.Form == "nfd" && !norm.NFD.IsNormalString(name):
		return refuse("%q is not in the Unicode form NFD, which %s turns all names into", name, r.Keeper)
	}
	for _, pattern := range r.Patterns {
		if pattern.MatchString(name) {
			return refuse("%s does not hold names such as %q (%s)", r.Keeper, name, pattern)
		}
	}
	return nil
}

// isDevice reports whether a name without its extension is the name of a device.
func isDevice(name string) bool {
	stem, _, _ := strings.Cut(strings.ToUpper(name), ".")
	stem = strings.TrimSpace(stem)
	if slices.Contains([]string{"CON", "PRN", "AUX", "NUL"}, stem) {
		return true
	}
	return len(stem) == 4 && (strings.HasPrefix(stem, "COM") || strings.HasPrefix(stem, "LPT")) && stem[3] >= '1' && stem[3] <= '9'
}

func (r *NameRules) checkLength(folder Path, name string) error {
	refuse := func(why string, args ...any) error { return Errorf(ErrNameRefused, why, args...) }
	if r.MostBytes > 0 && len(name) > r.MostBytes {
		return refuse("%q has %d bytes; names at %s have %d bytes at most", name, len(name), r.Keeper, r.MostBytes)
	}
	if r.MostCharacters > 0 && len(name) > r.MostCharacters {
		if length := utf8.RuneCountInString(name); length > r.MostCharacters {
			return refuse("%q has %d characters; names at %s have %d characters at most", name, length, r.Keeper, r.MostCharacters)
		}
	}
	if r.MostUnits > 0 && len(name) > r.MostUnits && len(utf16.Encode([]rune(name))) > r.MostUnits {
		return refuse("%q is too long; names at %s have %d characters at most", name, r.Keeper, r.MostUnits)
	}
	if length := len(r.Start) + len(folder) + len(name); r.MostKeyBytes > 0 && length > r.MostKeyBytes {
		return refuse("the path of %q would have %d bytes; paths at %s have %d at most", name, length, r.Keeper, r.MostKeyBytes)
	}
	if r.Deepest > 0 {
		if depth := len((r.Start + folder).Names()); depth >= r.Deepest {
			return refuse("%q would be %d folders deep; %s holds %d", name, depth+1, r.Keeper, r.Deepest)
		}
	}
	if r.MostPath > 0 {
		if length := 1 + utf8.RuneCountInString(string(r.Start+folder)+name); length > r.MostPath {
			return refuse("the path of %q would have %d characters; paths at %s have %d at most", name, length, r.Keeper, r.MostPath)
		}
	}
	return nil
}
