package sealed_test

import (
	"fmt"
	"strings"
	"testing"

	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// TestReseal takes one recipient away and adds another: the one opens nothing any more, and
// the other everything, also where the process ends at any request in between.
func TestReseal(t *testing.T) {
	for left := int64(0); ; left += 7 {
		base := storetest.NewMemory()
		_, identity := newKeys(t)
		former, formerIdentity := newKeys(t)
		coming, comingIdentity := newKeys(t)
		keys, err := sealed.ParseKeys(identity, former.Recipients()...)
		if err != nil {
			t.Fatal(err)
		}
		if err := sealed.Create(t.Context(), base, vault, keys, nil); err != nil {
			t.Fatal(err)
		}
		place := reopen(t, base, keys, &heads{})
		want := map[string]string{}
		for i := range 5 {
			folder := fmt.Sprintf("folder %d", i%2)
			if _, err := place.MakeFolder(t.Context(), store.At(folder)); err != nil {
				t.Fatal(err)
			}
			data := strings.Repeat(fmt.Sprint(i), 40_000*i)
			writing := store.Writing{Place: store.At(folder, fmt.Sprint(i)), Size: int64(len(data)), Run: "r", Content: storetest.Text(data)}
			if _, err := place.Write(t.Context(), writing); err != nil {
				t.Fatal(err)
			}
			want[folder+"/"+fmt.Sprint(i)] = data
		}
		if err := store.Close(place); err != nil {
			t.Fatal(err)
		}
		dying := &mortal{Store: &storetest.Account{Memory: base, Copies: true}}
		dying.left.Store(1 << 40)
		place = reopen(t, dying, keys, &heads{})
		if err := place.SetRecipients(t.Context(), coming.Recipients()); err != nil {
			t.Fatal(err)
		}
		dying.left.Store(left)
		_, err = place.ResealManifests(t.Context())
		if err == nil {
			_, err = place.ResealContents(t.Context(), nil)
		}
		ended := err == nil
		place = reopen(t, base, keys, &heads{})
		if !ended {
			if _, err := place.ResealManifests(t.Context()); err != nil {
				t.Fatalf("after a kill: %v", err)
			}
			if _, err := place.ResealContents(t.Context(), nil); err != nil {
				t.Fatalf("after a kill: %v", err)
			}
		}
		if place.NeedsReseal() {
			t.Error("something is left to be sealed again")
		}
		if err := store.Close(place); err != nil {
			t.Fatal(err)
		}
		readWith(t, base, comingIdentity, want)
		if keys, err = sealed.ParseKeys(formerIdentity); err != nil {
			t.Fatal(err)
		}
		if _, err := sealed.Open(t.Context(), sealed.Options{Base: base, Folder: vault, Keys: keys}); err == nil {
			t.Error("the former recipient opens the place")
		}
		for path, data := range base.Files() {
			if strings.HasSuffix(path, ".age") && sealed.Opens(keys, []byte(data)) {
				t.Errorf("the former recipient opens %s", path)
			}
		}
		if ended {
			return
		}
	}
}

func readWith(t *testing.T, base store.Store, identity string, want map[string]string) {
	t.Helper()
	keys, err := sealed.ParseKeys(identity)
	if err != nil {
		t.Fatal(err)
	}
	place := reopen(t, base, keys, &heads{})
	for path, data := range want {
		if got, err := readAll(t, place, store.At(strings.Split(path, "/")...), 0, 0); err != nil || got != data {
			t.Errorf("%s: %d bytes of %d, %v", path, len(got), len(data), err)
		}
	}
}
