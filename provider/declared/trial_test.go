package declared_test

import (
	"testing"

	"deftheron/provider/declared"
	"deftheron/standin"
)

// TestTryThrottled tries a service that bears few requests a second.
func TestTryThrottled(t *testing.T) {
	t.Parallel()
	s, address := sedge(t)
	s.Consents.Register(standin.Client{ID: "throttled", Redirects: []string{standin.Callback}, PerSecond: 200})
	secrets := granted(t, "code", s.Consents, "throttled", "", "surveys@fenmere.example", "items.read", "items.write")
	sum, err := shipped(t, "sedge").Try(t.Context(), opening(t, address, secrets, nil), func(r declared.Result) {
		if r.Outcome == declared.Fails {
			t.Errorf("%s: %q %+v", r.Part, r.Notes, r.Exchange)
		}
	})
	if err != nil || sum.Left != "" {
		t.Errorf("%+v, %v", sum, err)
	}
}

// TestTry tries both shipped definitions, as somebody does who writes one.
func TestTry(t *testing.T) {
	s, sedgeAt := sedge(t)
	s.Document([]string{"Notes"}, "text", "Weir inspection", "All dry.")
	s.Document([]string{"Notes"}, "sheet", "Levels", "gauge\tlevel\n1\t0.31")
	a, alderAt := alder(t)
	for _, c := range []struct {
		name, address string
		secrets       *vault
		notThere      []string
	}{
		{"sedge", sedgeAt, granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read", "items.write"),
			[]string{"numbered parts", "several are removed at once"}},
		{"alder", alderAt, granted(t, "code", a.Consents, standin.AlderClient, "alder-app", "office@tolland.example", "folders:view", "folders:edit"),
			[]string{"areas are told", "documents are exported", "a file and a folder of one name", "numbered parts", "several are removed at once"}},
	} {
		var notThere []string
		sum, err := shipped(t, c.name).Try(t.Context(), opening(t, c.address, c.secrets, nil), func(r declared.Result) {
			t.Log(c.name, r.Part, r.Outcome, r.Took.Round(1e6), r.Notes)
			if r.Outcome == declared.NotThere {
				notThere = append(notThere, r.Part)
			}
			if r.Exchange != nil {
				t.Logf("%+v", *r.Exchange)
			}
		})
		if err != nil || sum.Fails > 0 || sum.Left != "" {
			t.Errorf("%s: %+v, %v", c.name, sum, err)
		}
		if len(notThere) != len(c.notThere) {
			t.Errorf("%s: not described are %q, want %q", c.name, notThere, c.notThere)
		}
	}
}
