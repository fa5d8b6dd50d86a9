package diagnosis_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/service/diagnosis"
)

type inspected struct{ err error }

func (i inspected) Inspect(context.Context) (string, error) { return "3.50", i.err }

// TestOf finds what is wrong with a service, and says nothing else is.
func TestOf(t *testing.T) {
	states := func(d contract.Diagnosis) map[string]string {
		all := map[string]string{}
		for _, one := range d.Checks {
			all[one.Name] = one.State
			if one.State == diagnosis.Failed && one.Remedy == "" || one.Found == "" || !strings.HasSuffix(one.Found, ".") {
				t.Errorf("%+v", one)
			}
		}
		return all
	}
	data := t.TempDir()
	if err := os.Chmod(data, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(data, "heron.key"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	subject := diagnosis.Subject{Data: data, Records: inspected{}, Version: "1", Now: time.Now,
		Accounts: []contract.Account{{Address: "/desk", State: "linked"}, {Address: "/old", State: "suspended"}},
		Workers:  []contract.Worker{{Name: "gauge-house", State: "connected"}}}
	got := states(diagnosis.Of(t.Context(), subject))
	for _, name := range []string{"records", "permissions", "accounts", "versions", "workers"} {
		if got[name] != diagnosis.Good {
			t.Errorf("%s is %q, want good", name, got[name])
		}
	}
	if err := os.Chmod(filepath.Join(data, "heron.key"), 0o644); err != nil {
		t.Fatal(err)
	}
	subject.Records = inspected{errors.New("row 5 missing from index")}
	subject.Accounts = append(subject.Accounts, contract.Account{Address: "/drive", State: "sign-in-expired", Remedy: "Reauthorize it."},
		contract.Account{Address: "/full", State: "linked", Warnings: []contract.Warning{{Why: "it is nearly full", Remedy: "make room"}}})
	subject.Workers = append(subject.Workers, contract.Worker{Name: "boat-house", State: "offline",
		Remedy: "Start it: heron worker code NAME."})
	found := diagnosis.Of(t.Context(), subject)
	got = states(found)
	want := map[string]string{"records": diagnosis.Failed, "permissions": diagnosis.Failed, "/drive": diagnosis.Failed,
		"/full": diagnosis.Warning, "worker boat-house": diagnosis.Warning}
	for name, state := range want {
		if got[name] != state {
			t.Errorf("%s is %q, want %s", name, got[name], state)
		}
	}
	if found.State != diagnosis.Failed {
		t.Errorf("all together is %s", found.State)
	}
	subject.Records = inspected{context.DeadlineExceeded}
	if got := states(diagnosis.Of(t.Context(), subject)); got["records"] != diagnosis.Warning {
		t.Errorf("records that take too long are %q", got["records"])
	}
}
