package records_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"deftheron/service/records"
)

// TestAccountCache reads an account after each kind of write: what was read before it is
// not returned again, and what a caller does with an account is its own.
func TestAccountCache(t *testing.T) {
	db, err := records.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	ctx := t.Context()
	for _, name := range []string{"desk", "keeper"} {
		account := records.Account{ID: name, Name: name, Provider: "folder", Options: map[string]string{"path": "/srv/" + name},
			Secret: []byte("first"), CreatedAt: time.Now()}
		if err := db.AddAccount(ctx, &account); err != nil {
			t.Fatal(err)
		}
	}
	read := func(name string) records.Account {
		t.Helper()
		account, err := db.Account(ctx, name)
		if err != nil {
			t.Fatalf("reading %s: %v", name, err)
		}
		return account
	}
	read("keeper").Options["path"] = "/elsewhere"
	read("keeper").Secret[0] = 'X'
	if kept := read("keeper"); kept.Options["path"] != "/srv/keeper" || string(kept.Secret) != "first" {
		t.Errorf("a caller changed what the next one reads: %v, %q", kept.Options, kept.Secret)
	}
	for _, c := range []struct {
		what  string
		write func(context.Context) error
		holds func(records.Account) bool
	}{
		{"SwapSecret", func(ctx context.Context) error {
			_, err := db.SwapSecret(ctx, "desk", []byte("first"), []byte("second"))
			return err
		}, func(a records.Account) bool { return string(a.Secret) == "second" }},
		{"ReauthorizeAccount", func(ctx context.Context) error {
			return db.ReauthorizeAccount(ctx, "desk", []byte("third"), "owner", "origin")
		}, func(a records.Account) bool { return string(a.Secret) == "third" && a.Owner == "owner" }},
		{"SaveAccount", func(ctx context.Context) error {
			return db.SaveAccount(ctx, records.Account{ID: "desk", Suspended: true, SignedIn: "keeper"}, "suspended", "signed_in")
		}, func(a records.Account) bool { return a.Suspended && a.SignedIn == "keeper" }},
		{"SawAccount", func(ctx context.Context) error { return db.SawAccount(ctx, "desk", time.Now()) },
			func(a records.Account) bool { return a.SeenAt != nil }},
		{"HandSignIn", func(ctx context.Context) error { return db.HandSignIn(ctx, "keeper", "desk", []byte("handed")) },
			func(a records.Account) bool { return string(a.Secret) == "handed" && a.SignedIn == "" }},
		{"ForgetSecrets", func(ctx context.Context) error { _, err := db.ForgetSecrets(ctx); return err },
			func(a records.Account) bool { return a.Secret == nil }},
	} {
		before := read("desk")
		if c.holds(before) {
			t.Errorf("%s: would verify nothing: %+v", c.what, before)
		}
		if err := c.write(ctx); err != nil {
			t.Fatalf("%s: %v", c.what, err)
		}
		if after := read("desk"); !c.holds(after) {
			t.Errorf("after %s: read %+v", c.what, after)
		}
	}
	if err := db.RenameAccount(ctx, "desk", "desk", "office"); err != nil {
		t.Fatal(err)
	}
	if read("office").ID != "desk" {
		t.Error("the renamed account is not read by its new name")
	}
	if err := db.RemoveAccount(ctx, read("office")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"desk", "office"} {
		if _, err := db.Account(ctx, name); !errors.Is(err, records.ErrNotFound) {
			t.Errorf("reading %s, which is gone: %v", name, err)
		}
	}
}
