package declared_test

import (
	"os"
	"strings"
	"testing"
	"time"

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
		{"alder", alderAt, granted(t, "code", a.Consents, standin.AlderClient, "alder-app", "office@tolland.example", "folders:view",
			"folders:edit"),
			[]string{"areas are reported", "documents are exported", "a file and a folder of one name", "numbered parts",
				"several are removed at once"}},
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

// edited is a shipped definition with one place of its text replaced.
func edited(t *testing.T, name, old, replacement string) *declared.Provider {
	t.Helper()
	text, err := os.ReadFile("definitions/" + name + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	if strings.Count(string(text), old) != 1 {
		t.Fatalf("%q is %d times in %s", old, strings.Count(string(text), old), name)
	}
	definition, err := declared.Load(name+".yaml", []byte(strings.Replace(string(text), old, replacement, 1)))
	if err != nil {
		t.Fatal(err)
	}
	return declared.New(definition)
}

// TestTryFindsFalseClaims tries definitions that are wrong in one place each: the trial
// has to fail, and to name that place.
func TestTryFindsFalseClaims(t *testing.T) {
	t.Parallel()
	ifMatch := "  headers: {If-Match: 'if .revision then \"\\\"\\(.revision)\\\"\" else null end'}\n  conditional: true"
	for _, c := range []struct{ what, name, old, replacement, told string }{
		{"a misspelt time", "sedge", "modified: .modified_ms\n  created", "modified: .changed_ms\n  created", "entry.modified comes to nothing"},
		{"a misspelt hash", "sedge", "value: .md5, verification: true", "value: .md_5", "hashes[0].value comes to no md5"},
		{"misspelt bytes in use", "sedge", ".storage.used", ".storage.taken", "space.used comes to nothing"},
		{"a cursor that ends in null", "sedge", "cursor: .next_cursor", "cursor: .next", "changes.cursor comes to nothing new"},
		{"a removal without its condition", "sedge", "DELETE /items/{id}\n" + ifMatch, "DELETE /items/{id}\n  conditional: true",
			"remove.conditional is claimed and not kept"},
		{"a download without its condition", "sedge", "/bytes\n" + ifMatch, "/bytes\n  conditional: true",
			"download.conditional is claimed and not kept"},
		{"conditions on writing", "alder", "modified: .modified, expect: expected}", "modified: .modified, expect: \"any\"}",
			"is claimed and not kept"},
		{"a form of names", "sedge", "longest-bytes: 1024", "longest-bytes: 1024\n  unicode: nfc", "names.unicode: nfc is claimed"},
		{"names that are refused", "alder", "  refused:\n    - '[\\\\/:*?\"<>|\\x00-\\x1f]'\n    - '[. ]$'\n" +
			"    - '(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\\.|$)'\n", "",
			"names:\n  refused:\n    - '[?\"\\\\:*\\x0a<>]'\n    - '[.]$'\n    - '[ ]$'\n    - '(?i)^con$'"},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			provider := edited(t, c.name, c.old, c.replacement)
			var secrets *vault
			var address string
			if c.name == "sedge" {
				s, at := sedge(t)
				s.Document([]string{"Notes"}, "text", "Weir inspection", "All dry.")
				address, secrets = at, granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read", "items.write")
			} else {
				a, at := alder(t)
				address, secrets = at, granted(t, "code", a.Consents, standin.AlderClient, "alder-app", "office@tolland.example", "folders:view",
					"folders:edit")
			}
			var told []string
			sum, err := provider.Try(t.Context(), opening(t, address, secrets, nil), func(r declared.Result) {
				if r.Outcome == declared.Fails {
					told = append(told, r.Part+": "+strings.Join(r.Notes, "\n"))
				}
			})
			if err != nil || sum.Left != "" {
				t.Errorf("%+v, %v", sum, err)
			}
			if !strings.Contains(strings.Join(told, "\n"), c.told) || sum.Fails == 0 {
				t.Errorf("want %q; told was %q", c.told, told)
			}
		})
	}
}

// TestTryToReadAlone tries a definition that nothing can be written by: what is in the
// account is read.
func TestTryToReadAlone(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("definitions/sedge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	reading, rest, _ := strings.Cut(string(text), "\nuploads:")
	_, rest, _ = strings.Cut(rest, "\nchanges:")
	reading += "\nchanges:" + rest
	s, address := sedge(t)
	if err := s.Put([]string{"Weirs"}, "levels.csv", []byte("gauge,level\nA,0.31\n"), time.Now()); err != nil {
		t.Fatal(err)
	}
	secrets := granted(t, "code", s.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read")
	for _, c := range []struct{ what, old, replacement, told string }{
		{"an honest one", "", "", ""},
		{"a misspelt hash", "value: .md5, verification: true", "value: .md_5", "hashes[0].value comes to no md5"},
		{"a download of something else", "GET /items/{id}/bytes", "GET /items/{id}", "bytes by entry.size"},
	} {
		definition, err := declared.Load("reading.yaml", []byte(strings.Replace(reading, c.old, c.replacement, 1)))
		if err != nil {
			t.Fatal(err)
		}
		outcome, told := declared.Outcome(""), ""
		if _, err := declared.New(definition).Try(t.Context(), opening(t, address, secrets, nil), func(r declared.Result) {
			if r.Part == "reading" {
				outcome, told = r.Outcome, strings.Join(r.Notes, "\n")
			}
		}); err != nil {
			t.Fatal(err)
		}
		if works := c.told == ""; works != (outcome == declared.Works) || !strings.Contains(told, c.told) {
			t.Errorf("%s: reading %s, %q, want %q", c.what, outcome, told, c.told)
		}
	}
}
