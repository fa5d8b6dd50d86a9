package tree_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/tree"
)

type accounts map[string]store.Store

func (a accounts) Names(context.Context) ([]string, error) { return []string{"archive", "desk"}, nil }

func (a accounts) Open(_ context.Context, name string) (tree.Account, error) {
	if s, ok := a[name]; ok {
		return tree.Account{Name: name, Store: s}, nil
	}
	return tree.Account{}, store.Errorf(store.ErrNotFound, "there is no account %q", name)
}

func TestTree(t *testing.T) {
	desk := storetest.NewMemory()
	desk.Unsorted = true
	desk.Put("x", "in", "b.txt")
	desk.Put("y", "in", "a.txt")
	desk.Put("z", ".heron", "place")
	all := &tree.Tree{Accounts: accounts{"desk": desk, "archive": storetest.NewMemory()}}
	list := func(address string) (found []string, err error) {
		parsed, err := store.ParseAddress(address)
		if err != nil {
			t.Fatal(err)
		}
		for node, err := range all.List(t.Context(), parsed) {
			if err != nil {
				return found, err
			}
			found = append(found, node.Address.String())
		}
		return found, nil
	}
	for address, want := range map[string]string{
		"/":               "[/archive /desk]",
		"/desk":           "[/desk/in]", // what is ours is left out
		"/desk/in":        "[/desk/in/a.txt /desk/in/b.txt]",
		"/desk/in/a.txt":  "[/desk/in/a.txt]",
		"/archive":        "[]",
		"/desk/in/%id=no": "",
	} {
		found, err := list(address)
		if want == "" {
			if !errors.Is(err, store.ErrNotFound) {
				t.Errorf("%s: %v, %v", address, found, err)
			}
			continue
		}
		if err != nil || fmt.Sprint(found) != want {
			t.Errorf("%s: %v, %v; want %s", address, found, err, want)
		}
	}
	for _, missing := range []string{"/nobody", "/desk/nothing", "/desk/in/a.txt/deeper"} {
		if found, err := list(missing); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: %v, %v; want %q", missing, found, err, store.ErrNotFound)
		}
	}
	for _, address := range []string{"/", "/desk", "/desk/in"} {
		parsed, _ := store.ParseAddress(address)
		if node, err := all.Stat(t.Context(), parsed); err != nil || node.Kind != store.KindFolder {
			t.Errorf("stat %s: %+v, %v", address, node, err)
		}
	}
	if _, err := all.Locate(t.Context(), store.Address{}); !errors.Is(err, store.ErrRefused) {
		t.Errorf("locating the root: %v", err)
	}
}
