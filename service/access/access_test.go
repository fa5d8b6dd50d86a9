package access_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/service/access"
	"deftheron/service/records"
)

func open(t *testing.T) (*records.DB, string) {
	t.Helper()
	dir := t.TempDir()
	db, err := records.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, dir
}

func TestSealing(t *testing.T) {
	db, dir := open(t)
	sealer, err := access.OpenKey(t.Context(), db, dir, "", false)
	if err != nil {
		t.Fatal(err)
	}
	sealed := sealer.Seal("account 1", []byte("secret"))
	if bytes.Contains(sealed, []byte("secret")) {
		t.Error("the secret stands in what was sealed")
	}
	again, err := access.OpenKey(t.Context(), db, dir, "", false)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := again.Open("account 1", sealed); err != nil || string(text) != "secret" {
		t.Errorf("opened %q, %v", text, err)
	}
	sealed[len(sealed)-1] ^= 1
	if _, err := again.Open("account 1", sealed); err == nil {
		t.Error("what was tampered with was opened")
	}
	sealed[len(sealed)-1] ^= 1
	if _, err := again.Open("account 2", sealed); err == nil {
		t.Error("what was sealed for one account was opened for another")
	}
	if _, err := again.Open("account 1", sealed[:5]); err == nil {
		t.Error("a stump was opened")
	}
}

func TestKeyIsNeverSilentlyMadeAnew(t *testing.T) {
	db, dir := open(t)
	path := filepath.Join(dir, access.KeyFileName)
	if _, err := access.OpenKey(t.Context(), db, dir, "", false); err != nil {
		t.Fatal(err)
	}
	os.Remove(path)
	var keyErr *access.KeyError
	_, err := access.OpenKey(t.Context(), db, dir, "", false)
	if !errors.As(err, &keyErr) || !strings.Contains(err.Error(), "--forget-secrets") {
		t.Errorf("a missing key: %v", err)
	}
	if _, err := os.Stat(path); err == nil {
		t.Fatal("a key was made")
	}
	if _, err := access.OpenKey(t.Context(), db, dir, "", true); err != nil {
		t.Errorf("told to forget: %v", err)
	}
	if _, err := access.OpenKey(t.Context(), db, dir, "", false); err != nil {
		t.Errorf("after that: %v", err)
	}
}

// TestKeyElsewhere keeps the key where it is told to, from the first start on.
func TestKeyElsewhere(t *testing.T) {
	db, dir := open(t)
	path := filepath.Join(t.TempDir(), "key")
	if _, err := access.OpenKey(t.Context(), db, dir, path, false); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	if _, err := os.Stat(filepath.Join(dir, access.KeyFileName)); err == nil {
		t.Error("a key is in the data folder too")
	}
	if _, err := access.OpenKey(t.Context(), db, dir, path+"-gone", false); err == nil {
		t.Error("a key was made though something is sealed")
	}
}

// newAccess returns the access to records, with a key.
func newAccess(t *testing.T, db *records.DB, dir string) *access.Access {
	t.Helper()
	sealer, err := access.OpenKey(t.Context(), db, dir, "", false)
	if err != nil {
		t.Fatal(err)
	}
	return access.New(db, sealer)
}

func TestSessions(t *testing.T) {
	db, dir := open(t)
	a, ctx := newAccess(t, db, dir), t.Context()
	now := time.Now()
	a.Now = func() time.Time { return now }
	for range 2 {
		if err := a.EnsureOwner(ctx, dir); err != nil {
			t.Fatal(err)
		}
	}
	info, err := os.Stat(filepath.Join(dir, access.TokenFileName))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("the token's file: %v, %v", info, err)
	}
	token, _ := os.ReadFile(filepath.Join(dir, access.TokenFileName))
	if who, err := a.Who(ctx, strings.TrimSpace(string(token))); err != nil || who.Role != access.Owner {
		t.Errorf("%+v, %v", who, err)
	}
	for _, wrong := range []string{"", "wrong", string(token) + "x"} {
		if _, err := a.Who(ctx, wrong); !errors.Is(err, access.ErrNotSignedIn) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	link, _ := a.NewLink(records.OwnerID, "")
	session, expires, err := a.Exchange(ctx, link, access.Visitor{From: "127.0.0.1", Client: "a browser"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := a.Exchange(ctx, link, access.Visitor{From: "127.0.0.1", Client: "a browser"}); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a link was good twice: %v", err)
	}
	who, err := a.Who(ctx, session)
	if err != nil || who.Kind != "session" {
		t.Fatalf("%+v, %v", who, err)
	}
	if err := a.End(ctx, who); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Who(ctx, session); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a session that was ended: %v", err)
	}
	late, _ := a.NewLink(records.OwnerID, "")
	second, _ := a.NewLink(records.OwnerID, "")
	session, _, _ = a.Exchange(ctx, second, access.Visitor{})
	now = now.Add(16 * time.Minute)
	if _, _, err := a.Exchange(ctx, late, access.Visitor{}); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a link of 16 minutes ago: %v", err)
	}
	now = expires.Add(time.Hour)
	if _, err := a.Who(ctx, session); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a session past its day: %v", err)
	}
}
