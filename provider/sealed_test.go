package provider_test

import (
	"flag"
	"fmt"
	"strings"
	"testing"

	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

var everywhere = flag.Bool("everywhere", false, "try sealed places on every server, as make soak does")

// TestSealedConforms has a sealed place keep what package store promises, in a folder of each
// kind of account: on real servers, and on the stand-ins.
func TestSealedConforms(t *testing.T) {
	identity, _, err := sealed.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	keys, err := sealed.ParseKeys(identity)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range places(t) {
		alike := p.provider == "ftp" || p.provider == "smb" || strings.HasPrefix(p.on, "golang.org") || strings.HasPrefix(p.on, "the demo")
		if alike && !*everywhere {
			continue
		}
		t.Run(p.provider+" "+p.on, func(t *testing.T) {
			t.Parallel()
			number := 0
			storetest.Run(t, func(t *testing.T) store.Store {
				number++
				folder := store.MakePath(fmt.Sprintf("vault %d", number))
				if err := sealed.Create(t.Context(), p.store, folder, keys, nil); err != nil {
					t.Fatal(err)
				}
				place, err := sealed.Open(t.Context(), sealed.Options{Base: p.store, Folder: folder, Keys: keys})
				if err != nil {
					t.Fatal(err)
				}
				return place
			})
		})
	}
}
