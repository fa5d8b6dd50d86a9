package store_test

import (
	"strings"
	"testing"

	"deftheron/core/store"
)

func TestAddresses(t *testing.T) {
	for _, c := range []struct {
		text  string
		names []string
		again string // as it is written; empty: the same
	}{
		{"/desk", nil, ""},
		{"/desk/", nil, "/desk"},
		{"/desk/a/b", []string{"a", "b"}, ""},
		{"/desk/a/", []string{"a"}, ""},
		{"/desk/a//", []string{"a", ""}, ""},
		{"/desk/a//b", []string{"a", "", "b"}, ""},
		{"/desk//b", []string{"", "b"}, ""},
		{"/desk/./..", []string{".", ".."}, ""},
		{"/desk/a%2Fb", []string{"a/b"}, ""},
		{"/desk/a%252Fb", []string{"a%2Fb"}, ""},
		{"/desk/a%2525", []string{"a%25"}, ""},
		{"/desk/100%", []string{"100%"}, ""},
		{"/desk/%2f%20%", []string{"%2f%20%"}, ""},
		{"/desk/%25id=7", []string{"%id=7"}, ""},
		{"/desk/x%id=7", []string{"x%id=7"}, ""},
		{"/desk/%id=", []string{"%id="}, "/desk/%25id="},
		{"/desk/%id=bytes:bad%FF%FE.txt", []string{"bad\xff\xfe.txt"}, ""},
		{"/desk/%id=bytes:é%E9%2F%25/x", []string{"é\xe9/%", "x"}, ""},
		{"/desk/%25id=bytes:a", []string{"%id=bytes:a"}, ""},
		{"/desk/ré sumé/🦦", []string{"ré sumé", "🦦"}, ""},
	} {
		address, err := store.ParseAddress(c.text)
		if err != nil {
			t.Errorf("%q: %v", c.text, err)
			continue
		}
		place, ok := address.Place()
		if want := store.At(c.names...); !ok || place.As("") != want {
			t.Errorf("%q is %q (%v), want %q", c.text, place, ok, want)
		}
		if named := c.text == "/desk/a/"; address.Folder != named || (place.Kind == store.KindFolder) != named {
			t.Errorf("%q names the folder: %v, %q", c.text, address.Folder, place.Kind)
		}
		want := c.again
		if want == "" {
			want = c.text
		}
		if got := address.String(); got != want {
			t.Errorf("%q is written %q, want %q", c.text, got, want)
		}
		if got := store.MakeAddress("desk", place); got.String() != strings.TrimSuffix(want, "/") && got.String() != want {
			t.Errorf("%q made of its place is %q", c.text, got)
		}
	}
	byID, err := store.ParseAddress("/drive/a/%id=x%2Fy")
	if err != nil || byID.Steps[1] != (store.Step{ID: "x/y"}) || byID.String() != "/drive/a/%id=x%2Fy" {
		t.Errorf("by id: %+v, %v", byID, err)
	}
	if _, ok := byID.Place(); ok {
		t.Error("an address by id has a place without asking the store")
	}
	for _, bad := range []string{"", "desk", "desk/x", "/Desk", "//x", "/a b", "/" + strings.Repeat("a", 41), "/desk/\x00"} {
		if address, err := store.ParseAddress(bad); err == nil {
			t.Errorf("%q was taken for the address %q", bad, address)
		}
	}
	if root, err := store.ParseAddress("/"); err != nil || !root.IsRoot() || root.String() != "/" {
		t.Errorf("the root: %v, %v", root, err)
	}
}

func TestContains(t *testing.T) {
	parse := func(text string) store.Address {
		address, err := store.ParseAddress(text)
		if err != nil {
			t.Fatal(err)
		}
		return address
	}
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"/", "/desk", true}, {"/desk", "/desk", true}, {"/desk", "/desk/a", true}, {"/desk/a", "/desk", false},
		{"/desk/a", "/desk/ab", false}, {"/desk", "/desk2", false}, {"/desk/a", "/desk/a/b/c", true},
	} {
		if got := parse(c.a).Contains(parse(c.b)); got != c.want {
			t.Errorf("%s contains %s: %v", c.a, c.b, got)
		}
	}
}

// FuzzAddress wants every name to survive its address, and every address that
// is read to be written and read again as the same.
func FuzzAddress(f *testing.F) {
	for _, seed := range []string{"a", "%", "%2F", "%25", "%id=", "/", "a/b", "", "..", "%252F", "%25id=x"} {
		f.Add(seed, seed)
	}
	f.Fuzz(func(t *testing.T, one, two string) {
		if strings.ContainsRune(one+two, 0) {
			return
		}
		place := store.At(one, two)
		address, err := store.ParseAddress(store.MakeAddress("desk", place).String())
		if err != nil {
			t.Fatalf("%q, %q: %v", one, two, err)
		}
		if got, ok := address.Place(); !ok || got != place {
			t.Fatalf("%q, %q became %q by way of %q", one, two, got, address)
		}
		if read, err := store.ParseAddress("/desk/" + one); err == nil {
			again, err := store.ParseAddress(read.String())
			if err != nil || again.String() != read.String() {
				t.Fatalf("%q is written %q, which reads as %q, %v", one, read, again, err)
			}
		}
	})
}
