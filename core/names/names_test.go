package names_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/names"
	"deftheron/core/store"
)

// windows are traits such as those of a share.
var windows = store.Traits{CaseIgnored: true, Names: &store.NameRules{Keeper: "a share", NoEmpty: true, NoSteps: true, NoDevices: true,
	UTF8: true, MostBytes: 255, Without: "\\/:*?\"<>|\n", NoLast: ". "}}

// disk are traits such as those of a folder.
var disk = store.Traits{Names: &store.NameRules{Keeper: "a folder", NoEmpty: true, NoSteps: true, NoSlashes: true, MostBytes: 255}}

// listless is a server whose listings cannot tell some names.
var listless = store.Traits{Names: &store.NameRules{Keeper: "a listing", Patterns: []*regexp.Regexp{regexp.MustCompile("^ | -> ")},
	NoCapitals: true, MostBytes: 100}}

func TestPutAndHome(t *testing.T) {
	for _, c := range []struct {
		traits     store.Traits
		name, want string
	}{
		{windows, "plain", "plain"},
		{windows, "a:b", "a%3Ab"},
		{windows, "what? *really*", "what%3F %2Areally%2A"},
		{windows, "trailing.", "trailing%2E"},
		{windows, "trailing. .", "trailing. %2E"},
		{windows, "con.txt", "%63on.txt"},
		{windows, "..", ".%2E"},
		{windows, "bad\xffbyte", "bad%FFbyte"},
		{windows, "a%3Ab", "a%253Ab"},
		{windows, "a%20b", "a%20b"},
		{windows, "50% off: now%3A", "50% off%3A now%253A"},
		{windows, "a%253Ab", "a%25253Ab"},
		{windows, "%41.txt", "%2541.txt"}, // would be read as a twin
		{disk, "%41.txt", "%41.txt"},
		{disk, "a:b%3Ac", "a:b%3Ac"},
		{disk, ".", "%2E"},
		{disk, "a/b", "a%2Fb"},
		{disk, "a%2Fb", "a%252Fb"},
		{listless, "a -> b", "a%20-> b"},
		{listless, "Mixed", "%4dixed"},
	} {
		translator := names.For(c.traits)
		got, err := translator.Put("", c.name)
		if err != nil || got != c.want {
			t.Errorf("%q becomes %q (%v), want %q", c.name, got, err, c.want)
		}
		if home := translator.Home("", got); home != c.name {
			t.Errorf("%q comes home as %q, want %q", got, home, c.name)
		}
	}
	if got, err := names.For(windows).Put("", strings.Repeat("x", 300)); store.KindOf(err) != store.ErrNameRefused {
		t.Errorf("a name that is too long becomes %q, %v", got, err)
	}
}

func TestTwin(t *testing.T) {
	translator := names.For(windows)
	for _, c := range []struct{ name, taken, want string }{
		{"a.txt", "A.txt", "%61.txt"}, {"ab", "AB", "%61%62"}, {"Ab", "AB", "A%62"}, {"straße", "STRASSE", "%73%74%72%61%C3%9F%65"},
		{"é", "É", "%C3%A9"},
	} {
		got, err := translator.Twin("", c.name, c.taken)
		if err != nil || got != c.want || translator.Home("", got) != c.name {
			t.Errorf("%q beside %q becomes %q (%v) and comes home as %q, want %q", c.name, c.taken, got, err, translator.Home("", got), c.want)
		}
	}
	if _, err := translator.Twin("", "1", "1"); err == nil {
		t.Error("a twin of itself was named")
	}
}

func FuzzPutAndHome(f *testing.F) {
	for _, name := range []string{"a:b", "%41", "a%253Ab", "con", "..", "\xff%FF", "é ", "%", "%2", "%%25", "x%2E", "a -> b",
		strings.Repeat("%3A", 50)} {
		f.Add(name, "other")
	}
	f.Fuzz(func(t *testing.T, name, other string) {
		if strings.IndexByte(name, 0) >= 0 {
			t.Skip("no account has such a name")
		}
		for i, traits := range []store.Traits{windows, disk, listless} {
			translator := names.For(traits)
			put, err := translator.Put("", name)
			if err != nil {
				if traits.NameError("", name) == nil {
					t.Fatalf("%d: %q can be held, and was refused: %v", i, name, err)
				}
				continue
			}
			if err := traits.NameError("", put); err != nil {
				t.Fatalf("%d: %q became %q, which is refused: %v", i, name, put, err)
			}
			if home := translator.Home("", put); home != name {
				t.Fatalf("%d: %q became %q, which comes home as %q", i, name, put, home)
			}
			if second, err := translator.Put("", other); err == nil && second == put && other != name {
				t.Fatalf("%d: %q and %q both become %q", i, name, other, put)
			}
		}
	})
}

func TestMapper(t *testing.T) {
	m := names.NewMapper(disk, "", windows, "")
	file := func(below store.Path, name string) store.Listed {
		return store.Listed{Below: below, Entry: store.Entry{Name: name, Kind: store.KindFile}}
	}
	for _, c := range []struct {
		listed store.Listed
		want   store.Key
	}{
		{file("", "a"), "a"}, {file("x/", "a"), "x/a"}, {file("x:/y/", "a?"), "x%3A/y/a%3F"},
		{store.Listed{Below: "x:/", Entry: store.Entry{Name: "z.", Kind: store.KindFolder}}, "x%3A/z%2E/"},
	} {
		if got, err := m.Key(c.listed); err != nil || got != c.want {
			t.Errorf("%q becomes %q (%v), want %q", c.listed.Key(), got, err, c.want)
		}
	}
	if _, err := m.Key(file(store.MakePath(strings.Repeat("x", 300)), "a")); store.KindOf(err) != store.ErrNameRefused {
		t.Errorf("below a folder whose name is too long: %v", err)
	}
	data := store.Listed{Entry: store.Entry{Name: "data", Kind: store.KindFolder}}
	if twin, err := m.Twin(data, "data/", "Data/"); err != nil || twin != "%64ata/" {
		t.Errorf("the twin of a folder is %q, %v", twin, err)
	}
	if got, _ := m.Key(file("data/", "a:")); got != "%64ata/a%3A" || !m.Moved(file("data/", "a:")) || m.Moved(file("Data/", "a")) {
		t.Errorf("what is in it is at %q", got)
	}
	if m.InOrder() || m.Match("Ä/B") != m.Match("ä/b") || !names.NewMapper(windows, "", disk, "").InOrder() {
		t.Error("whether letter case counts is the target's to say")
	}
	home := names.NewMapper(windows, "", disk, "")
	if got, _ := home.Key(file("x%3A/", "%61.txt")); got != "x:/a.txt" {
		t.Errorf("on the way home it is %q", got)
	}
	m.Refuse = true
	if _, err := m.Key(file("", "a:b")); store.KindOf(err) != store.ErrNameRefused {
		t.Errorf("where names are not to be translated: %v", err)
	}
}

func TestTemplate(t *testing.T) {
	at := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	file := names.File{Name: "IMG 1.tar.gz", Folder: []string{"Trip", "Day 2"}, Modified: at}
	for _, c := range []struct {
		text string
		want []string
	}{
		{"{name}", []string{"IMG 1.tar.gz"}},
		{"{date:%Y}/{date:%m}/{name}", []string{"2026", "03", "IMG 1.tar.gz"}},
		{"{date:%Y/%m}/{stem}-{date}.{ext}", []string{"2026", "03", "IMG 1.tar-2026-03-04.gz"}},
		{"{run:%Y-%m-%d}/{folder}/{name}", []string{"2027-01-02", "Trip", "Day 2", "IMG 1.tar.gz"}},
		{"from {account}{{}}//{name}", []string{"from desk{}", "IMG 1.tar.gz"}},
	} {
		template, err := names.ParseTemplate(c.text)
		if err != nil {
			t.Error(err)
			continue
		}
		got := template.For("desk", time.Date(2027, 1, 2, 0, 0, 0, 0, time.UTC)).Expand(file)
		if !slices.Equal(got, c.want) {
			t.Errorf("%q makes %q, want %q", c.text, got, c.want)
		}
	}
	template, _ := names.ParseTemplate("{date}/{name}")
	if got := template.Expand(names.File{Name: ".profile"}); !slices.Equal(got, []string{"undated", ".profile"}) {
		t.Errorf("without a date it is %q", got)
	}
	for text, says := range map[string]string{
		"": "empty", "{name": "column 1 that is not closed", "a{nmae}": "unknown field {nmae} at column 2", "a}": "column 2",
		"{date:%Y}": "one name", "{name}/": "ends in a folder", "{name:%Y}": "takes no format", "{date:%E}{name}": "%E",
	} {
		if _, err := names.ParseTemplate(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want it to say %q", text, err, says)
		}
	}
}

func FuzzTemplate(f *testing.F) {
	for _, text := range []string{"{name}", "{date:%Y-%m}/{stem}.{ext}", "{{{name}}}", "{date:%}{name}", "}{", "{run:%-d}{name}"} {
		f.Add(text, "a.b")
	}
	f.Fuzz(func(t *testing.T, text, name string) {
		template, err := names.ParseTemplate(text)
		if err != nil {
			return
		}
		for _, step := range template.For("desk", time.Unix(0, 0)).Expand(names.File{Name: name, Modified: time.Unix(1e9, 0)}) {
			if step == "" {
				t.Fatalf("%q makes an empty step of %q", text, name)
			}
		}
	})
}

// TestRunSteps counts the folders that are the run's alone.
func TestRunSteps(t *testing.T) {
	for text, want := range map[string]int{
		"{run:%Y-%m-%d}/{folder}/{name}": 1, "{run:%Y/%m}/{run:%d}/{folder}/{name}": 3, "backup of {run}/{name}": 1,
		"{folder}/{name}": 0, "{folder}/{run}/{name}": 0, "{run}/{folder}/{stem} {run:%H}.{ext}": 0, "{account} {run}/{name}": 0,
		"{run} {name}": 0, "all/{run}/{name}": 0,
	} {
		template, err := names.ParseTemplate(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := template.RunSteps(); got != want {
			t.Errorf("%s has %d, want %d", text, got, want)
		}
	}
}
