package access_test

import (
	"bytes"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/records"
)

const good = "correct horse weir"

func address(t *testing.T, text string) store.Address {
	t.Helper()
	parsed, err := store.ParseAddress(text)
	if err != nil {
		t.Fatal(err)
	}
	return parsed
}

// addAccount adds an account to the records.
func addAccount(t *testing.T, db *records.DB, name string) records.Account {
	t.Helper()
	row := records.Account{ID: "id-of-" + name, Name: name, Provider: "folder", Options: map[string]string{}, CreatedAt: time.Now()}
	if err := db.AddAccount(t.Context(), &row); err != nil {
		t.Fatal(err)
	}
	return row
}

// TestScopes has what users and their tokens see follow roles, grants and the names of accounts.
func TestScopes(t *testing.T) {
	db, dir := open(t)
	a, ctx := newAccess(t, db, dir), t.Context()
	desk := addAccount(t, db, "desk")
	addAccount(t, db, "archive")
	user, err := a.AddUser(ctx, "surveyor", "operator", good)
	if err != nil {
		t.Fatal(err)
	}
	for _, grant := range []access.Grant{{Address: address(t, "/desk/Surveys/2026"), Role: access.Operator},
		{Address: address(t, "/desk/Permits"), Role: access.Viewer}} {
		if err := a.SetGrant(ctx, user, grant); err != nil {
			t.Fatal(err)
		}
	}
	check := func(scope tree.Scope, want map[string]string) {
		t.Helper()
		for text, sight := range want {
			at := address(t, text)
			got := map[tree.Sight]string{tree.Hidden: "hidden", tree.Through: "through", tree.Seen: "seen"}[scope.Sees(at)]
			if scope.MayChange(at) {
				got = "changes"
			}
			if got != sight {
				t.Errorf("%s: %s, want %s", text, got, sight)
			}
		}
	}
	scope, err := a.ScopeOf(ctx, user.ID)
	if err != nil {
		t.Fatal(err)
	}
	check(scope, map[string]string{"/": "through", "/desk": "through", "/desk/Surveys": "through", "/desk/Surveys/2026": "changes",
		"/desk/Surveys/2026/a/b": "changes", "/desk/Surveys/2025": "hidden", "/desk/Surveys/2026x": "hidden", "/desk/surveys/2026": "hidden",
		"/desk/Permits/x": "seen", "/archive": "hidden", "/desk/%id=7": "hidden", "/desk/Surveys/2026/%id=7": "changes",
		"/desk/Permits/../Surveys/2025": "seen"}) // a name, not a way up: no store has it
	for _, wrong := range []access.Grant{{Address: address(t, "/nowhere"), Role: access.Viewer}, {Address: address(t, "/desk"),
		Role: access.Owner},
		{Address: address(t, "/desk/%id=7"), Role: access.Viewer}} {
		if _, err := a.AddUser(ctx, "half-added", "viewer", good, wrong); err == nil {
			t.Errorf("a user is added with the grant %v", wrong)
		}
		if _, err := db.UserNamed(ctx, "half-added"); !errors.Is(err, records.ErrNotFound) {
			t.Errorf("a wrong grant leaves a user: %v", err)
		}
	}
	for issuer, good := range map[string]bool{"http://sign-in.example.org": false, "sign-in.example.org": false, "http://127.0.0.1:1": true,
		"https://sign-in.example.org": true} {
		_, err := access.NewOpenID(a, access.OpenIDOptions{Issuer: issuer, ClientID: "x", Roles: map[string]access.Role{"x": access.Viewer}})
		if (err == nil) != good {
			t.Errorf("the issuer %s: %v", issuer, err)
		}
	}
	token, row, err := a.NewToken(ctx, user.ID, access.TokenRequest{Name: "reader", Scopes: []string{"read"},
		Grants: []access.Grant{{Address: address(t, "/desk/Surveys/2026/a"), Role: access.Viewer}}})
	if err != nil {
		t.Fatal(err)
	}
	who, err := a.Who(ctx, token)
	if err != nil || who.Kind != access.KindToken || who.Token != "reader" || !who.Has("read") || who.Has("files") {
		t.Fatalf("%+v, %v", who, err)
	}
	check(who.Scope, map[string]string{"/desk/Surveys/2026/a/x": "seen", "/desk/Surveys/2026/b": "hidden", "/desk/Permits": "hidden"})
	// A grant stays with its account when that has another name, and ends with it.
	if err := db.RenameAccount(ctx, desk.ID, "desk", "office"); err != nil {
		t.Fatal(err)
	}
	if scope, err = a.ScopeOf(ctx, user.ID); err != nil {
		t.Fatal(err)
	}
	check(scope, map[string]string{"/office/Permits": "seen", "/desk/Permits": "hidden"})
	viewer := "viewer"
	if user, err = a.ChangeUser(ctx, user, access.UserChange{Role: &viewer}, ""); err != nil {
		t.Fatal(err)
	}
	if scope, err = a.ScopeOf(ctx, user.ID); err != nil {
		t.Fatal(err)
	}
	check(scope, map[string]string{"/office/Surveys/2026": "seen"})
	if err := a.EndSession(ctx, row.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Who(ctx, token); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a revoked token: %v", err)
	}
	if err := a.RemoveUser(ctx, user); err != nil {
		t.Fatal(err)
	}
	if scope, err = a.ScopeOf(ctx, user.ID); err != nil || scope == nil || scope.Sees(address(t, "/office")) != tree.Hidden {
		t.Errorf("a user who is gone sees %v, %v", scope, err)
	}
}

// TestPasswordSignIn signs in by password and one-time code, and not otherwise.
func TestPasswordSignIn(t *testing.T) {
	db, dir := open(t)
	a, ctx := newAccess(t, db, dir), t.Context()
	now := time.Now()
	a.Now = func() time.Time { return now }
	for password, wrong := range map[string]string{"short": "too short", strings.Repeat("a", 20): "over and over",
		"the-Surveyor-of-Fenmere": "user's name", strings.Repeat("ab", 600): "too long"} {
		if _, err := a.AddUser(ctx, "surveyor", "viewer", password); err == nil || !strings.Contains(err.Error(), wrong) {
			t.Errorf("the password %q: %v", password, err)
		}
	}
	for _, name := range []string{"", "With Space", "UPPER", "-x", strings.Repeat("a", 65), "a/b", "a\x00b"} {
		if _, err := a.AddUser(ctx, name, "viewer", good); err == nil {
			t.Errorf("a user is called %q", name)
		}
	}
	user, err := a.AddUser(ctx, "surveyor", "viewer", good)
	if err != nil {
		t.Fatal(err)
	}
	signIn := func(name, password, code string) error {
		_, _, err := a.SignIn(ctx, name, password, code, access.Visitor{})
		return err
	}
	for _, one := range [][2]string{{"surveyor", "not it at all"}, {"nobody", good}, {"surveyor", ""}, {"owner", ""}, {"owner", good}} {
		if err := signIn(one[0], one[1], ""); !errors.Is(err, access.ErrNotSignedIn) {
			t.Errorf("%v: %v", one, err)
		}
	}
	if err := signIn("surveyor", good, ""); err != nil {
		t.Error(err)
	}
	key, address, err := a.NewTOTP(user)
	if err != nil || !strings.HasPrefix(address, "otpauth://totp/") {
		t.Fatalf("%s, %v", address, err)
	}
	code := func(at time.Time) string {
		text, err := totp.GenerateCode(key, at)
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	if _, err := a.SetTOTP(ctx, user, key, "000000"); err == nil && code(now) != "000000" {
		t.Error("a wrong first code is taken")
	}
	recovery, err := a.SetTOTP(ctx, user, key, code(now))
	if err != nil || len(recovery) != 10 {
		t.Fatalf("%v, %v", recovery, err)
	}
	if err := signIn("surveyor", good, ""); !errors.Is(err, access.ErrCodeNeeded) {
		t.Errorf("without a code: %v", err)
	}
	if err := signIn("surveyor", good, code(now)); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("with a code that was used: %v", err)
	}
	now = now.Add(time.Minute)
	if err := signIn("surveyor", good, code(now)); err != nil {
		t.Errorf("with the next code: %v", err)
	}
	if err := signIn("surveyor", good, code(now)); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("with it again: %v", err)
	}
	if err := signIn("surveyor", good, strings.ToLower(recovery[3])); err != nil {
		t.Errorf("with a recovery code: %v", err)
	}
	if err := signIn("surveyor", good, recovery[3]); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("with it again: %v", err)
	}
	if user, err = db.User(ctx, user.ID); err != nil || bytes.Contains(user.TOTP, []byte(key)) || strings.Contains(user.Password, good) {
		t.Errorf("a secret is kept as it is: %v", err)
	}
	disabled := true
	if _, err := a.ChangeUser(ctx, user, access.UserChange{Disabled: &disabled}, ""); err != nil {
		t.Fatal(err)
	}
	if err := signIn("surveyor", good, recovery[4]); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a disabled user: %v", err)
	}
}

// TestSessionsEnd has sessions end when nobody uses them, and one-time links with who made them.
func TestSessionsEnd(t *testing.T) {
	db, dir := open(t)
	a, ctx := newAccess(t, db, dir), t.Context()
	now := time.Now()
	a.Now = func() time.Time { return now }
	if _, err := a.AddUser(ctx, "surveyor", "viewer", good); err != nil {
		t.Fatal(err)
	}
	session, _, err := a.SignIn(ctx, "surveyor", good, "", access.Visitor{})
	if err != nil {
		t.Fatal(err)
	}
	who, err := a.Who(ctx, session)
	if err != nil || !who.Fresh(now) || who.Fresh(now.Add(16*time.Minute)) {
		t.Fatalf("%+v, %v", who, err)
	}
	other, _ := a.NewLink(records.OwnerID, "")
	if err := a.Confirm(ctx, who, "not the password", ""); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("confirmed with a wrong password: %v", err)
	}
	if err := a.ConfirmByLink(ctx, who, other); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("confirmed with the link of another user: %v", err)
	}
	now = now.Add(20 * time.Minute)
	if err := a.Confirm(ctx, who, good, ""); err != nil {
		t.Error(err)
	}
	if who, err = a.Who(ctx, session); err != nil || !who.Fresh(now) {
		t.Errorf("after it was confirmed: %+v, %v", who, err)
	}
	for range 3 { // used every six days
		now = now.Add(6 * 24 * time.Hour)
		if _, err := a.Who(ctx, session); err != nil {
			t.Fatalf("a session that is used: %v", err)
		}
	}
	now = now.Add(8 * 24 * time.Hour)
	if _, err := a.Who(ctx, session); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a session that nobody used for eight days: %v", err)
	}
	now = now.Add(-8 * 24 * time.Hour)
	link, _ := a.NewLink(who.User, who.TokenID)
	if err := a.EndSession(ctx, who.TokenID); err != nil {
		t.Fatal(err)
	}
	if _, _, err := a.Exchange(ctx, link, access.Visitor{}); !errors.Is(err, access.ErrNotSignedIn) {
		t.Errorf("a link whose maker signed out: %v", err)
	}
}

// TestAudit chains entries, gathers those that repeat, and leaves a checkpoint where it was thinned.
func TestAudit(t *testing.T) {
	db, dir := open(t)
	ctx := t.Context()
	sealer, err := access.OpenKey(ctx, db, dir, "", false)
	if err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	audit, err := access.NewAudit(db, sealer, slog.New(slog.NewTextHandler(&log, nil)))
	if err != nil {
		t.Fatal(err)
	}
	record := func(audit *access.Audit, action string, coalesced bool) {
		t.Helper()
		if err := audit.Record(ctx, access.Event{Person: access.Person{Name: "surveyor", Kind: access.KindSession}, Action: action,
			Subject: strings.Repeat("x", 600), Outcome: "done", Coalesced: coalesced}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 5 {
		record(audit, fmt.Sprint("change-", i), false)
		record(audit, "read-content", true)
	}
	whole := func(audit *access.Audit, entries int64) access.Checked {
		t.Helper()
		checked, err := audit.Verify(ctx)
		if err != nil || checked.Broken != 0 || checked.Entries != entries {
			t.Fatalf("%+v, %v; want %d entries", checked, err, entries)
		}
		return checked
	}
	first := whole(audit, 6)
	rows, _, err := audit.Find(ctx, records.AuditFilter{Action: "read-content"}, 0, 10)
	if err != nil || len(rows) != 1 || rows[0].Times != 5 || len(rows[0].Subject) > 510 {
		t.Errorf("%+v, %v", rows, err)
	}
	if !strings.Contains(log.String(), "head=") {
		t.Errorf("the head is not in the log: %s", log.String())
	}
	// Another process goes on where the log ends, also after everything was thinned.
	again, err := access.NewAudit(db, sealer, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	if err := again.Thin(ctx, time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	whole(again, 0)
	record(again, "change-after", false)
	if last := whole(again, 1); last.First != first.Last+1 {
		t.Errorf("%+v after %+v", last, first)
	}
	// Whoever moves the checkpoint breaks the chain.
	if err := db.SetMeta(ctx, "audit-checkpoint", ""); err != nil {
		t.Fatal(err)
	}
	if checked, err := again.Verify(ctx); err != nil || checked.Broken == 0 {
		t.Errorf("without its checkpoint: %+v, %v", checked, err)
	}
}
