package accounts_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/network"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/records"
)

// vault is a provider whose secret rotates at each opening.
type vault struct {
	opened int
	broken error
}

func (*vault) Name() string  { return "vault" }
func (*vault) Title() string { return "Vault" }
func (*vault) Options() []store.Option {
	return []store.Option{{Name: "host", Required: true, Help: "the host"}, {Name: "secret", Required: true, Secret: true, Title: "Secret"}}
}

func (v *vault) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	v.opened++
	if v.broken != nil {
		return nil, v.broken
	}
	old, err := opening.Secrets.Load(ctx)
	if err != nil {
		return nil, err
	}
	if err := opening.Secrets.Save(ctx, []byte("not it"), []byte("x")); !errors.Is(err, store.ErrChanged) {
		return nil, errors.New("a secret was replaced by somebody who did not know it")
	}
	if !strings.HasPrefix(string(old), "first") {
		return nil, errors.New("the secret is " + string(old))
	}
	if opening.Options["rotate"] == "" && v.opened > 1 {
		return storetest.NewMemory(), opening.Secrets.Save(ctx, old, append(old, '+'))
	}
	return storetest.NewMemory(), nil
}

// newRecords are records of a test's own, and what seals secrets in them.
func newRecords(t *testing.T) (*records.DB, *access.Sealer) {
	t.Helper()
	dir := t.TempDir()
	db, err := records.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	sealer, err := access.OpenKey(t.Context(), db, dir, "", false)
	if err != nil {
		t.Fatal(err)
	}
	return db, sealer
}

func TestAccounts(t *testing.T) {
	ctx := t.Context()
	db, sealer := newRecords(t)
	v := &vault{}
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	fresh := func() *accounts.Accounts { return accounts.New(db, sealer, []store.Provider{v}, log) }
	a := fresh()
	changed := 0
	a.Changed = func() { changed++ }
	link := accounts.Link{Provider: "vault", Name: "safe", Options: map[string]string{"host": "h"}, Secret: "first"}
	if _, _, err := a.Add(ctx, link); err != nil {
		t.Fatal(err)
	}
	if _, _, err := a.Add(ctx, link); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("linked twice: %v", err)
	}
	again := fresh() // as after a restart
	for range 3 {
		if _, err := again.Open(ctx, "safe"); err != nil {
			t.Fatal(err)
		}
	}
	if v.opened != 2 || changed != 1 {
		t.Errorf("opened %d times, changed %d times; want 2 and 1", v.opened, changed)
	}
	row, _ := db.Account(ctx, "safe")
	if secret, err := sealer.Open("account "+row.ID, row.Secret); err != nil || string(secret) != "first+" {
		t.Errorf("the rotated secret is kept as %q, %v", secret, err)
	}
	v.broken = store.Errorf(store.ErrTryAgain, "down; wait")
	link.Name = "other"
	if _, _, err := a.Add(ctx, link); err == nil {
		t.Error("an account that cannot be reached was linked")
	}
	if names, err := a.Names(ctx); err != nil || len(names) != 1 {
		t.Errorf("%v, %v", names, err)
	}
	if err := a.Remove(ctx, "safe"); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Open(ctx, "safe"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an account that was unlinked: %v", err)
	}
}

// TestDial is of the dialer that providers are given: an address
// that nothing listens at is an error of the network, not of ours.
func TestDial(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := listener.Addr().String()
	go func() {
		if connection, err := listener.Accept(); err == nil {
			io.Copy(connection, connection)
		}
	}()
	connection, err := network.Dial(t.Context(), "tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer connection.Close()
	if _, err := connection.Write([]byte("ping")); err != nil {
		t.Fatal(err)
	}
	back := make([]byte, 4)
	if _, err := io.ReadFull(connection, back); err != nil || string(back) != "ping" {
		t.Errorf("%q, %v", back, err)
	}
	listener.Close()
	if _, err := network.Dial(t.Context(), "tcp", address); err == nil {
		t.Error("something answered where nothing listens")
	}
}

// TestStates says of an account how it was when it was asked last, and tells
// when that is news.
func TestStates(t *testing.T) {
	ctx := t.Context()
	db, sealer := newRecords(t)
	v := &vault{}
	a := accounts.New(db, sealer, []store.Provider{v}, slog.New(slog.DiscardHandler))
	row, _, err := a.Add(ctx, accounts.Link{Provider: "vault", Name: "safe", Options: map[string]string{"host": "h"}, Secret: "first"})
	if err != nil {
		t.Fatal(err)
	}
	news := 0
	a.Changed = func() { news++ }
	for _, c := range []struct {
		err  error
		want accounts.StateName
		news int
	}{
		{nil, accounts.Linked, 0},
		{store.Errorf(store.ErrNotFound, "no such folder"), accounts.Linked, 0}, // it answered
		{store.Errorf(store.ErrTryAgain, "refused to connect"), accounts.Unreachable, 1},
		{store.Errorf(store.ErrOutcomeUnknown, "reset"), accounts.Unreachable, 1},
		{errors.New("of no kind"), accounts.Unreachable, 1},
		{store.Errorf(store.ErrSignInExpired, "the password changed"), accounts.SignInExpired, 2},
		{nil, accounts.Linked, 3},
	} {
		a.Noticed("safe", c.err)
		state := a.StateOf(row)
		if state.Name != c.want || news != c.news || (state.Err == nil) != (c.want == accounts.Linked) {
			t.Errorf("after %v: %+v, told %d times; want %s, %d", c.err, state, news, c.want, c.news)
		}
	}
	// Opened again, it is not there any more: it is away until it is.
	again := accounts.New(db, sealer, []store.Provider{v}, slog.New(slog.DiscardHandler))
	v.broken = store.Errorf(store.ErrNotFound, "the folder is gone")
	each, together, err := again.Spaces(ctx)
	if err != nil || len(each) != 1 || each[0].Err == nil || together != store.UnknownSpace ||
		again.StateOf(row).Name != accounts.Unreachable {
		t.Errorf("%+v, %+v, %v, %+v", each, together, err, again.StateOf(row))
	}
	v.broken = nil
	if each, _, err := again.Spaces(ctx); err != nil || each[0].Err != nil || again.StateOf(row).Name != accounts.Linked {
		t.Errorf("back again: %+v, %v, %+v", each, err, again.StateOf(row))
	}
}

// TestRotatedWhileLinking has a provider replace the secret while the account is
// being linked: what it came to is kept.
func TestRotatedWhileLinking(t *testing.T) {
	ctx := t.Context()
	db, sealer := newRecords(t)
	v := &vault{opened: 1} // it rotates from its second opening on
	a := accounts.New(db, sealer, []store.Provider{v}, slog.New(slog.NewTextHandler(io.Discard, nil)))
	row, _, err := a.Add(ctx, accounts.Link{Provider: "vault", Name: "safe", Options: map[string]string{"host": "h"}, Secret: "first"})
	if err != nil {
		t.Fatal(err)
	}
	if secret, err := sealer.Open("account "+row.ID, row.Secret); err != nil || string(secret) != "first+" {
		t.Errorf("linked with %q, %v", secret, err)
	}
	again := accounts.New(db, sealer, []store.Provider{v}, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if _, err := again.Open(ctx, "safe"); err != nil {
		t.Errorf("after a restart: %v", err)
	}
}

// TestChangesKeepARotatedSecret has a provider replace the secret while runs are being
// stopped for a change: what it came to is kept.
func TestChangesKeepARotatedSecret(t *testing.T) {
	ctx := t.Context()
	db, sealer := newRecords(t)
	a := accounts.New(db, sealer, []store.Provider{&vault{}}, slog.New(slog.DiscardHandler))
	row, _, err := a.Add(ctx, accounts.Link{Provider: "vault", Name: "safe", Options: map[string]string{"host": "h"}, Secret: "first"})
	if err != nil {
		t.Fatal(err)
	}
	rotated := 0
	a.WithRunsPaused = func(_ context.Context, _ string, change func() error) error {
		kept, err := db.AccountByID(ctx, row.ID)
		if err != nil {
			return err
		}
		rotated++
		if _, err := db.SwapSecret(ctx, row.ID, kept.Secret,
			sealer.Seal("account "+row.ID, fmt.Appendf(nil, "first, rotated %d times", rotated))); err != nil {
			return err
		}
		return change()
	}
	for _, change := range []func() error{
		func() error { return a.Suspend(ctx, "safe") }, func() error { return a.Resume(ctx, "safe") },
		func() error { _, err := a.Rename(ctx, "safe", "strongroom"); return err },
		func() error {
			readOnly := true
			_, _, err := a.Edit(ctx, "strongroom", accounts.Edit{ReadOnly: &readOnly})
			return err
		},
	} {
		if err := change(); err != nil {
			t.Fatal(err)
		}
		kept, err := db.AccountByID(ctx, row.ID)
		if err != nil {
			t.Fatal(err)
		}
		want := fmt.Sprintf("first, rotated %d times", rotated)
		if secret, err := sealer.Open("account "+row.ID, kept.Secret); err != nil || !strings.HasPrefix(string(secret), want) {
			t.Errorf("kept is %q, %v; want %q", secret, err, want)
		}
	}
	if kept, _ := db.Account(ctx, "strongroom"); rotated != 4 || !kept.ReadOnly || kept.Suspended {
		t.Errorf("%d changes, %+v", rotated, kept)
	}
}
