package store_test

import (
	"errors"
	"regexp"
	"strings"
	"testing"

	"deftheron/core/store"
)

// TestNameRules has each rule refuse one name, say why, and let a similar name pass.
func TestNameRules(t *testing.T) {
	long := strings.Repeat("ä", 100) // 200 bytes
	for _, c := range []struct {
		rules                store.NameRules
		refused, held, words string
	}{
		{store.NameRules{}, "nul\x00", "a/b", "NUL"},
		{store.NameRules{NoEmpty: true}, "", " ", "empty"},
		{store.NameRules{NoSteps: true}, "..", "...", "step"},
		{store.NameRules{NoSlashes: true}, "a/b", `a\b`, "slash"},
		{store.NameRules{UTF8: true}, "\xff", "ÿ", "UTF-8"},
		{store.NameRules{Without: `:"`}, `a"b`, "a'b", `'"'`},
		{store.NameRules{NoControls: true}, "a\x01", "a\x7f", "control"},
		{store.NameRules{NoDotFirst: true}, ".profile", store.ArrivingPrefix + "x", "dot"},
		{store.NameRules{NoLast: ". "}, "a ", "a .b", "ends in"},
		{store.NameRules{NoDevices: true}, "com1.txt", "com0.txt", "device"},
		{store.NameRules{NoDevices: true}, "Nul", "null", "device"},
		{store.NameRules{NoCapitals: true}, "A", "a", "capital"},
		{store.NameRules{Form: "nfc"}, "e\u0301", "é", "NFC"},
		{store.NameRules{Form: "nfd"}, "é", "e\u0301", "NFD"},
		{store.NameRules{Patterns: []*regexp.Regexp{regexp.MustCompile("^~")}}, "~a", "a~", "such as"},
		{store.NameRules{MostBytes: 200}, long + "x", long, "201 bytes"},
		{store.NameRules{MostCharacters: 100}, long + "x", long, "101 characters"},
		{store.NameRules{MostUnits: 2}, "🐦x", "🐦", "too long"},
		{store.NameRules{MostKeyBytes: 10, Start: "a/"}, "1234567", "123456", "11 bytes"}, // in the folder "b/"
		{store.NameRules{MostPath: 10, Start: "a/"}, "123456", "12345", "11 characters"},
		{store.NameRules{Deepest: 2, Start: "a/"}, "x", "", "deep"},
	} {
		c.rules.Keeper = "the account"
		err := c.rules.Check("b/", c.refused)
		if !errors.Is(err, store.ErrNameRefused) || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%+v: %q gave %v, want words with %q", c.rules, c.refused, err, c.words)
		}
		if err := c.rules.Check("b/", c.held); err != nil && c.held != "" {
			t.Errorf("%+v: %q was refused: %v", c.rules, c.held, err)
		}
	}
}
