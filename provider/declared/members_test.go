package declared_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/standin"
)

// openOrganisation opens all areas of Sedge's organisation.
func openOrganisation(t *testing.T, key []byte) (*standin.Sedge, store.Store, *time.Time) {
	t.Helper()
	s, address := sedge(t)
	if key == nil {
		key = s.ServiceKey()
	}
	now := time.Now()
	with := opening(t, address, &vault{now: key}, map[string]string{"sign-in": "assertion"})
	with.Now = func() time.Time { return now }
	opened, err := shipped(t, "sedge").Open(t.Context(), with)
	if err != nil {
		t.Fatal(err)
	}
	return s, opened, &now
}

func namesAt(t *testing.T, s store.Store, folder store.Folder) (names []string) {
	t.Helper()
	for one, err := range listing.Sorted(t.Context(), s, folder) {
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, one.Name)
	}
	return names
}

// TestMembers reads and writes in the areas of an organisation's members, while some join
// and leave.
func TestMembers(t *testing.T) {
	sedge, s, now := openOrganisation(t, nil)
	surveyor, ranger := "surveyor-03@fenmere.example", "ranger-07@fenmere.example"
	for _, mail := range []string{surveyor, ranger} {
		if err := sedge.PutFor(mail, []string{"Surveys"}, "flow.csv", []byte("of "+mail)); err != nil {
			t.Fatal(err)
		}
	}
	members := namesAt(t, s, store.Folder{})
	if len(members) != 40 || !slices.Contains(members, surveyor) {
		t.Fatalf("the members are %q", members)
	}
	for _, mail := range []string{surveyor, ranger} {
		sum, _, err := store.ReadBack(t.Context(), s, store.At(mail, "Surveys", "flow.csv"), "", store.MD5)
		want := store.MD5.New()
		want.Write([]byte("of " + mail))
		if err != nil || sum != store.HashOf(store.MD5, want.Sum(nil)) {
			t.Errorf("%s: %v, %v", mail, sum, err)
		}
	}
	if names := namesAt(t, s, store.Folder{Path: store.MakePath("office-01@fenmere.example")}); len(names) > 0 {
		t.Errorf("a member without files has %q", names)
	}
	place := store.At(ranger, "Surveys", "new.txt")
	if _, err := s.Write(t.Context(), store.Writing{Place: place, Size: 3, Run: "r", Content: storetest.Text("new")}); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Move(t.Context(), s, place.As(store.KindFile), "", store.At(ranger, "moved.txt")); err != nil {
		t.Errorf("moving within a member's area: %v", err)
	}
	_, err := store.Move(t.Context(), s, store.At(ranger, "moved.txt").As(store.KindFile), "", store.At(surveyor, "moved.txt"))
	if !errors.Is(err, store.ErrUnsupported) {
		t.Errorf("moving to another member: %v", err)
	}
	if _, err := s.MakeFolder(t.Context(), store.At("nobody@fenmere.example")); !errors.Is(err, store.ErrRefused) {
		t.Errorf("making a member: %v", err)
	}
	if _, err := s.RemoveFolder(t.Context(), store.At(ranger)); !errors.Is(err, store.ErrRefused) {
		t.Errorf("removing a member: %v", err)
	}

	sedge.Join("diver-01@fenmere.example")
	sedge.Leave(surveyor)
	*now = now.Add(time.Minute)
	if members = namesAt(t, s, store.Folder{}); len(members) != 40 || slices.Contains(members, surveyor) ||
		!slices.Contains(members, "diver-01@fenmere.example") {
		t.Errorf("after one joined and one left: %q", members)
	}
	if _, err := s.Stat(t.Context(), store.At(surveyor, "Surveys", "flow.csv")); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a file of a member who has left: %v", err)
	}
}

// TestMembersNotListed has the list of members fail: that is an error, and nobody has left.
func TestMembersNotListed(t *testing.T) {
	sedge, s, now := openOrganisation(t, nil)
	sedge.Control.SetFaults(standin.Faults{Match: "GET /v2/organisation/members", Rates: map[string]float64{"503": 1}})
	*now = now.Add(time.Minute)
	for one, err := range s.List(t.Context(), store.Folder{}) {
		if err == nil {
			t.Fatalf("%q was listed", one.Name)
		}
	}
	if _, err := s.Stat(t.Context(), store.At("ranger-07@fenmere.example")); err == nil || errors.Is(err, store.ErrNotFound) {
		t.Errorf("a member while the members cannot be listed: %v", err)
	}
}

// TestAnotherServiceKey is refused.
func TestAnotherServiceKey(t *testing.T) {
	other, err := standin.OpenSedge(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	_, address := sedge(t)
	with := opening(t, address, &vault{now: other.ServiceKey()}, map[string]string{"sign-in": "assertion"})
	if _, err := shipped(t, "sedge").Open(t.Context(), with); !errors.Is(err, store.ErrSignInExpired) ||
		strings.Contains(err.Error(), "PRIVATE KEY") {
		t.Errorf("got %v", err)
	}
}
