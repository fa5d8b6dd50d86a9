package declared_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"

	"deftheron/core/compare"
	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/provider/declared"
)

const albumsDefinition = `
definition: 1
name: albums
title: Albums
base: "{+option.url}"
options: [{name: url, title: Address, help: The address., required: true}]
addressed: id
start: '"all"'
entry:
  name: .caption
  id: .uid
  kind: .pictures != null
  size: .octets
  revision: .uid
  home: .albums[0]
list:
  steps:
    - {when: '.names | length == 0', request: GET /albums}
    - {when: '.names | length == 1', request: "GET /albums/{id}"}
  items: '(.albums // .pictures)[]'
download:
  steps:
    - {request: "GET /pictures/{id}"}
`

// TestAlbums has one picture in two albums: it is listed in both, read from
// either, and goes once where the whole account is copied.
func TestAlbums(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/albums":
			fmt.Fprint(w, `{"albums":[{"uid":"a1","caption":"Weirs","pictures":2},{"uid":"a2","caption":"Best of 2026","pictures":1}]}`)
		case "/albums/a1":
			fmt.Fprint(w, `{"pictures":[{"uid":"p1","caption":"one.jpg","octets":3,"albums":["a1","a2"]},{"uid":"p2","caption":"two.jpg","octets":3,"albums":["a1"]}]}`)
		case "/albums/a2":
			fmt.Fprint(w, `{"pictures":[{"uid":"p1","caption":"one.jpg","octets":3,"albums":["a1","a2"]}]}`)
		case "/pictures/p1":
			http.Redirect(w, r, "/bytes", http.StatusFound)
		case "/bytes":
			fmt.Fprint(w, "JPG")
		default:
			http.NotFound(w, r)
		}
	}))
	defer server.Close()
	definition, err := declared.Load("albums.yaml", []byte(albumsDefinition))
	if err != nil {
		t.Fatal(err)
	}
	opened, err := declared.New(definition).Open(t.Context(), opening(t, server.URL, store.FixedSecret(""), nil))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := readAll(t, opened, store.At("Best of 2026", "one.jpg")); err != nil || got != "JPG" {
		t.Errorf("%q, %v", got, err)
	}
	for _, whole := range []bool{true, false} {
		var all []string
		planner := plan.Planner{Whole: whole}
		differences := func(yield func(compare.Difference, error) bool) {
			for listed, err := range listing.Flat(t.Context(), opened, store.Folder{}) {
				if err != nil {
					t.Fatal(err)
				}
				if !yield(compare.Difference{Key: listed.Key(), Kind: listed.Kind, Source: &listed.Entry, Verdict: compare.OnlySource}, nil) {
					return
				}
			}
		}
		for step, err := range planner.Steps(differences) {
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, fmt.Sprint(step.Action, " ", step.Key, " ", step.Cause))
		}
		want := []string{"create Best of 2026/one.jpg ", "create Weirs/one.jpg ", "create Weirs/two.jpg "}
		if whole {
			want[0] = "skip Best of 2026/one.jpg goes-elsewhere"
		}
		if !slices.Equal(all, want) {
			t.Errorf("whole %v: %q, want %q", whole, all, want)
		}
	}
}
