package store_test

import (
	"slices"
	"testing"

	"deftheron/core/store"
)

// TestBlocks holds the hash of hashes of blocks against its definition.
func TestBlocks(t *testing.T) {
	kind := store.BlocksOf(store.SHA256, store.MD5, 4)
	if kind != "sha256-of-4-md5" {
		t.Errorf("%q", kind)
	}
	sum := func(kind store.HashKind, data []byte) []byte {
		h := kind.New()
		h.Write(data)
		return h.Sum(nil)
	}
	for _, text := range []string{"", "a", "abcd", "abcde", "abcdefgh", "abcdefghi"} {
		var inner []byte
		for block := range slices.Chunk([]byte(text), 4) {
			inner = append(inner, sum(store.MD5, block)...)
		}
		want := store.HashOf(kind, sum(store.SHA256, inner))
		for step := 1; step <= 5; step++ {
			h := kind.New()
			for piece := range slices.Chunk([]byte(text), step) {
				h.Write(piece)
			}
			if got := store.HashOf(kind, h.Sum(nil)); got != want || store.HashOf(kind, h.Sum(nil)) != want {
				t.Errorf("%q by %d: %v, want %v", text, step, got, want)
			}
			h.Reset()
			h.Write([]byte("other"))
			h.Reset()
			h.Write([]byte(text))
			if got := store.HashOf(kind, h.Sum(nil)); got != want {
				t.Errorf("%q after a reset: %v", text, got)
			}
		}
	}
	for _, kind := range []store.HashKind{"sha256-of-0-md5", "sha256-of--1-md5", "sha256-of-x-md5", "sha256-of-4-nothing", "nothing-of-4-md5",
		"sha256-of-4-md5-of-4-md5", "sha256-of-4"} {
		if kind.New() != nil {
			t.Errorf("%s is a hash", kind)
		}
	}
	a := store.Hashes{{Kind: kind, Hex: "aa"}}
	if mine, theirs, ok := store.Shared(a, store.Hashes{{Kind: store.MD5, Hex: "bb"}, {Kind: kind, Hex: "cc"}}); !ok || mine.Hex != "aa" ||
		theirs.Hex != "cc" {
		t.Errorf("%v, %v, %v", mine, theirs, ok)
	}
}

// TestParsePasted is of what people paste back.
func TestParsePasted(t *testing.T) {
	for _, c := range []struct{ text, code, state, refused string }{
		{"abc", "abc", "", ""}, {"  abc \n", "abc", "", ""}, {"https://x.example/code?code=abc&state=s", "abc", "s", ""},
		{"https://x.example/code?code=a%2Bb&state=s#top", "a+b", "s", ""},
		{"https://x.example/?error=access_denied&state=s", "", "s", "access_denied"},
		{"/code?code=abc", "abc", "", ""}, {"https://x.example/", "", "", ""}, {"4/0Ab-c_d", "4/0Ab-c_d", "", ""},
	} {
		answer, state := store.ParsePasted(c.text)
		if answer.Code != c.code || state != c.state || answer.Refused != c.refused {
			t.Errorf("%q: %+v, %q", c.text, answer, state)
		}
	}
}
