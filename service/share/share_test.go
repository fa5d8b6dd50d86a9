package share_test

import (
	"errors"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/service/records"
	"deftheron/service/share"
)

// plain keeps passwords as they are, which only a test may.
type plain struct{}

func (plain) Hash(password string) string        { return "hash of " + password }
func (plain) Matches(password, hash string) bool { return "hash of "+password == hash }

func newLinks(t *testing.T) (*share.Links, *records.DB) {
	t.Helper()
	db, err := records.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return share.New(db, plain{}, slog.New(slog.DiscardHandler)), db
}

func asked(t *testing.T) share.Asked {
	t.Helper()
	address, err := store.ParseAddress("/desk/Reports")
	if err != nil {
		t.Fatal(err)
	}
	return share.Asked{Address: address, Account: "1", Mode: share.Download, User: "owner", By: "owner"}
}

// TestLinks makes links, opens them within their limits, and ends them.
func TestLinks(t *testing.T) {
	links, db := newLinks(t)
	ctx, now := t.Context(), time.Now()
	if _, _, err := links.Make(ctx, asked(t), now); store.KindOf(err) != store.ErrRefused {
		t.Errorf("made while they are off: %v", err)
	}
	if err := links.Enable(ctx, true); err != nil {
		t.Fatal(err)
	}
	for _, wrong := range []func(*share.Asked){
		func(a *share.Asked) { a.Mode = "edit" }, func(a *share.Asked) { a.For = time.Second },
		func(a *share.Asked) { a.For = 400 * 24 * time.Hour },
		func(a *share.Asked) { a.Password = "short" }, func(a *share.Asked) { a.MostUses = -1 }, func(a *share.Asked) { a.LargestFile = 1 },
		func(a *share.Asked) { a.Note = strings.Repeat("x", 501) },
	} {
		one := asked(t)
		wrong(&one)
		if _, _, err := links.Make(ctx, one, now); err == nil {
			t.Errorf("made: %+v", one)
		}
	}
	wanted := asked(t)
	wanted.Password, wanted.MostUses, wanted.For = "horse reed", 5, time.Hour
	row, token, err := links.Make(ctx, wanted, now)
	if err != nil || strings.Contains(row.Hash, token) {
		t.Fatal(row, err)
	}
	link, err := links.Find(ctx, token, now)
	if err != nil || !link.NeedsPassword() || links.Unlock(link, "horse") == nil || links.Unlock(link, "horse reed") != nil {
		t.Errorf("found %v, %v", link, err)
	}
	for _, other := range []string{"", token[1:], strings.ToUpper(token), strings.Repeat("A", 43)} {
		if _, err := links.Find(ctx, other, now); !errors.Is(err, share.ErrNone) {
			t.Errorf("%q is found: %v", other, err)
		}
	}
	var opened atomic.Int32
	var group sync.WaitGroup
	var cookie atomic.Value
	for range 20 {
		group.Go(func() {
			if text, err := links.Open(ctx, link, now); err == nil {
				opened.Add(1)
				cookie.Store(text)
			}
		})
	}
	group.Wait()
	if n := opened.Load(); n != 5 {
		t.Errorf("opened %d times", n)
	}
	text, _ := cookie.Load().(string)
	if !link.Opened(text, now) || link.Opened(text, now.Add(25*time.Hour)) || link.Opened("9"+text, now) || link.Opened("", now) {
		t.Errorf("the cookie %q", text)
	}
	kept, err := db.ShareLink(ctx, row.ID)
	if err != nil || kept.Uses != 5 {
		t.Errorf("recorded at once: %+v, %v", kept, err)
	}
	if _, err := links.Find(ctx, token, now.Add(2*time.Hour)); !errors.Is(err, share.ErrNone) {
		t.Errorf("expired: %v", err)
	}
	if err := links.Revoke(ctx, row.ID, now); err != nil {
		t.Fatal(err)
	}
	if _, err := links.Find(ctx, token, now); !errors.Is(err, share.ErrNone) || link.Good(now) {
		t.Errorf("revoked: %v", err)
	}
}

// TestRoom gives room to files that are sent, many at once, and no more than there is.
func TestRoom(t *testing.T) {
	links, db := newLinks(t)
	ctx, now := t.Context(), time.Now()
	if err := links.Enable(ctx, true); err != nil {
		t.Fatal(err)
	}
	wanted := asked(t)
	wanted.Mode, wanted.LargestFile, wanted.MostBytes = share.DropOff, 10, 95
	row, token, err := links.Make(ctx, wanted, now)
	if err != nil {
		t.Fatal(err)
	}
	link, err := links.Find(ctx, token, now)
	if err != nil {
		t.Fatal(err)
	}
	if err := link.Reserve(11); store.KindOf(err) != store.ErrTooLarge {
		t.Errorf("too large: %v", err)
	}
	var taken atomic.Int32
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() {
			if link.Reserve(10) == nil {
				taken.Add(1)
			}
		})
	}
	group.Wait()
	if taken.Load() != 9 || link.Left() != 5 {
		t.Errorf("%d files, %d left", taken.Load(), link.Left())
	}
	link.Return(10)
	links.Note(link, records.ShareUse{At: now, What: "upload", Name: "a", Bytes: 10})
	links.Note(link, records.ShareUse{At: now, What: "upload", Name: "a", Bytes: 10})
	if err := links.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	kept, err := db.ShareLink(ctx, row.ID)
	uses, failed := db.ShareUses(ctx, row.ID)
	if err != nil || failed != nil || kept.Bytes != 80 || len(uses) != 1 || uses[0].Times != 2 || uses[0].Bytes != 20 {
		t.Errorf("%+v, %+v, %v %v", kept, uses, err, failed)
	}
}
