package uritemplate_test

import (
	"net/url"
	"os"
	"strings"
	"testing"

	"deftheron/provider/declared/uritemplate"
)

// values are those that the standard's examples use.
var values = map[string]any{
	"var": "value", "hello": "Hello World!", "path": "/foo/bar", "x": "1024", "y": "768", "empty": "", "half": "50%", "who": "fred",
	"base": "http://example.com/home/", "dub": "me/too", "v": "6", "list": []string{"red", "green", "blue"},
	"count": []string{"one", "two", "three"},
	"dom":   []string{"example", "com"}, "empty_list": []string{},
}

func expand(t *testing.T, text string, values map[string]any) string {
	t.Helper()
	template, err := uritemplate.Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return template.Expand(func(name string) any { return values[name] })
}

// TestPublishedExamples expands the examples of the standard.
func TestPublishedExamples(t *testing.T) {
	examples, err := os.ReadFile("testdata/rfc6570.txt")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for line := range strings.Lines(string(examples)) {
		template, want, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if !ok {
			continue
		}
		n++
		if got := expand(t, template, values); got != want {
			t.Errorf("%s comes to %s, want %s", template, got, want)
		}
	}
	if n < 90 {
		t.Errorf("only %d examples were read", n)
	}
}

// TestNamesSurvive has names of every script and of every reserved character come out
// of an address as they went in.
func TestNamesSurvive(t *testing.T) {
	for _, name := range []string{"é.txt", "本.txt", "e\u0301", "🐦🌊", "Ω~ß", "%41", "100%25.txt", "a+b;c?d#e&f=g", "a b", `"<>\^{}|` + "`",
		"\x01\u2028", "..", "x:y@z!$'()*,"} {
		for _, template := range []string{"https://host.example/{name}", "https://host.example{/name}", "https://host.example/?{&name}",
			"https://host.example/{;name}", "https://host.example{/names*}"} {
			text := expand(t, template, map[string]any{"name": name, "names": []string{name}})
			address, err := url.Parse(text)
			if err != nil {
				t.Errorf("%s: %v", text, err)
				continue
			}
			got := strings.TrimPrefix(address.Path, "/")
			got = strings.TrimPrefix(got, ";name=")
			if strings.Contains(template, "?") {
				got = address.Query().Get("name")
			}
			if got != name {
				t.Errorf("%q by %s is %s, which is %q", name, template, text, got)
			}
		}
	}
}

// TestSigned leaves an address that was signed as it is.
func TestSigned(t *testing.T) {
	const signed = "https://host.example/a%2Fb%20c?sig=A%2BB%3D&x=%E6%9C%AC"
	if got := expand(t, "{+url}", map[string]any{"url": signed}); got != signed {
		t.Errorf("it comes to %s", got)
	}
	if got := expand(t, "{+url}", map[string]any{"url": "50% %zz %"}); got != "50%25%20%25zz%20%25" {
		t.Errorf("a percent sign that begins no triplet comes to %s", got)
	}
	if got := expand(t, "{name:2}", map[string]any{"name": "本é🐦"}); got != "%E6%9C%AC%C3%A9" {
		t.Errorf("two characters come to %s", got)
	}
}

func TestParseRefuses(t *testing.T) {
	for _, text := range []string{"{", "}", "a}b{c}", "{}", "{+}", "{!x}", "{x:0}", "{x:99999}", "{x:1*}", "{a b}", "{x,}", "{x..y}"} {
		if _, err := uritemplate.Parse(text); err == nil {
			t.Errorf("%s was read", text)
		}
	}
}

func FuzzExpand(f *testing.F) {
	f.Add("{+x}{/y*}{?z:3}", "é%41/", "本")
	f.Fuzz(func(t *testing.T, text, one, other string) {
		template, err := uritemplate.Parse(text)
		if err != nil {
			return
		}
		for _, c := range []byte(template.Expand(func(name string) any { return []string{one, other} })) {
			if c <= ' ' || c > '~' {
				t.Fatalf("%q of %q and %q holds the byte %x", text, one, other, c)
			}
		}
	})
}
