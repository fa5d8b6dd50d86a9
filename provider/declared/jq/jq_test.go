package jq_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/itchyny/gojq"

	"deftheron/provider/declared/jq"
)

func decode(t *testing.T, text string) any {
	t.Helper()
	decoder := json.NewDecoder(strings.NewReader(text))
	decoder.UseNumber()
	var value any
	if err := decoder.Decode(&value); err != nil {
		t.Fatal(err)
	}
	return value
}

const functions = `def twice(f): f | f; def shown: "<\(.name)>";`

func TestRun(t *testing.T) {
	for _, c := range []struct{ expression, input, want string }{
		{`.a.b`, `{"a":{"b":12345678901234567890}}`, `12345678901234567890`},
		{`.a."b c"`, `{"a":{"b c":null}}`, `null`},
		{`.a.b.c`, `{}`, `null`},
		{`.items[]`, `{"items":[7,8]}`, `7`},
		{`.n + 1`, `{"n":9007199254740993}`, `9007199254740994`},
		{`.size | tonumber`, `{"size":"123"}`, `123`},
		{`"\(.a)-\(.b | ascii_upcase)"`, `{"a":1,"b":"x"}`, `"1-X"`},
		{`@uri "p=\(.a)&q"`, `{"a":"é /"}`, `"p=%C3%A9%20%2F&q"`},
		{`{("k" + .a): .b, c: 1, "d\(.b)": 2, $status}`, `{"a":"x","b":2}`, `{"c":1,"d2":2,"kx":2,"status":200}`},
		{`if .t == "dir" then "folder" elif .doc then "document" else "file" end`, `{"t":"x","doc":true}`, `"document"`},
		{`[.x[] | select(.ok) | .n] | join(",")`, `{"x":[{"ok":true,"n":1},{"ok":false,"n":2},{"ok":true,"n":"z"}]}`, `"1,z"`},
		{`with_entries(select(.value != null))`, `{"a":null,"b":1}`, `{"b":1}`},
		{`.s | sub("^/";"") | gsub("[ _]+";"-")`, `{"s":"/a b_ c"}`, `"a-b-c"`},
		{`.s | capture("(?<y>[0-9]+)-(?<m>[0-9]+)") | .m`, `{"s":"2026-11"}`, `"11"`},
		{`.s | test("^A";"i")`, `{"s":"abc"}`, `true`},
		{`reduce .x[] as $n (0; . + $n)`, `{"x":[1,2,3]}`, `6`},
		{`[.x[] | . as {a: $q} | $q]`, `{"x":[{"a":1}]}`, `[1]`},
		{`shown + (2 | twice(. * 3) | tostring)`, `{"name":"n"}`, `"<n>18"`},
		{`$headers["retry-after"] // $in.name`, `{}`, `"from in"`},
		{`try error("x") catch .`, `{}`, `"x"`},
		{`.h | hex | unhex`, `{"h":"3q2-7w"}`, `"3q2+7w=="`},
		{`.p | path_escape, dirname`, `{"p":"/a b/ü"}`, `"/a%20b/%C3%BC"`},
		{`.p | ascii_json`, `{"p":"ü🐦"}`, `"\\u00fc\\ud83d\\udc26"`},
		{`[range(3)] | add`, `null`, `3`},
		{`["a","b"] | add`, `null`, `"ab"`},
		{`"ab" * 2`, `null`, `"abab"`},
		{`"a,b" / ","`, `null`, `["a","b"]`},
		{`.t | fromdate`, `{"t":"2026-01-01T00:00:00Z"}`, `1767225600`},
		{`.a[1:] | first`, `{"a":[1,2,3]}`, `2`},
		{`.a | index("c"), contains("c")`, `{"a":"abc"}`, `2`},
		{`-(.a)`, `{"a":3}`, `-3`},
		{`map_values(. + 1)`, `{"a":1,"b":2}`, `{"a":2,"b":3}`},
		{`getpath(["a","b","c"])`, `{"a":{"b":{"c":7}}}`, `7`},
		{`getpath(["x","y"])`, `{}`, `null`},
		{`.a | IN("x", "y")`, `{"a":"y"}`, `true`},
		{`.a | inside("xyz")`, `{"a":"yz"}`, `true`},
		{`[.a, .b | toarray]`, `{"a":1,"b":[2]}`, `[[1],[2]]`},
		{`empty`, `null`, `null`},
	} {
		e, err := jq.Compile(c.expression, functions)
		if err != nil {
			t.Errorf("%s: %v", c.expression, err)
			continue
		}
		got, err := e.Run(t.Context(), jq.Input{Value: decode(t, c.input), In: map[string]any{"name": "from in"}, Headers: map[string]any{},
			Status: 200})
		var encoded strings.Builder
		encoder := json.NewEncoder(&encoded)
		encoder.SetEscapeHTML(false)
		_ = encoder.Encode(got)
		text := strings.TrimSpace(encoded.String())
		if err != nil || text != c.want {
			t.Errorf("%s of %s: %s, %v; want %s", c.expression, c.input, text, err, c.want)
		}
	}
}

// TestAsJQ holds what is written here for jq's own functions against jq.
func TestAsJQ(t *testing.T) {
	const input = `{"s":"2026-11 and 2027-01","u":"Wehr ü 7, Wehr ä 8","n":[3,1,2],"o":{"b":1,"a":null},"e":""}`
	for _, expression := range []string{
		`.s | sub("(?<y>[0-9]+)-(?<m>[0-9]+)"; "\(.m)/\(.y)")`,
		`.s | gsub("(?<y>[0-9]+)-(?<m>[0-9]+)"; "\(.m)/\(.y)")`,
		`.s | sub("AND"; "or"; "i")`, `.s | sub("[0-9]"; "#"; "g")`, `.s | gsub("nothing"; "x")`, `. as $all | .s | sub("and"; $all.u)`,
		`.e | gsub("a"; "b")`, `.u | gsub("[üä]"; "e") | ascii_upcase`,
		`.s | [match("[0-9]+")]`, `.u | [match("(?<name>[a-z]+) (ü|ä) ([0-9])"; "gi")]`, `.u | [match("Wehr( zu)?"; "g")]`,
		`.u | match("7").offset`,
		`.s | [capture("(?<y>[0-9]+)-(?<m>[0-9]+)")]`, `.s | [capture("(?<y>[0-9]+)"; "g").y]`, `[.s | capture("(?<z>zzz)")]`,
		`(.s | capture("(?<z>zzz)")) // "none"`,
		`[.s | scan("[0-9]+")]`, `[.s | scan("([0-9]+)-([0-9]+)")[0]]`, `[.s | scan("AND"; "i")]`,
		`.s | test("AND"), test("AND"; "i")`, `.o | with_entries({key, value: 1})`,
		`.o | map_values(. // 0)`, `.n | add, (map(tostring) | add)`, `[.n[] | tostring] | join("-")`, `.o | to_entries | from_entries`,
		`.s | index("-"), contains("and")`, `.n | index(1), index(7), contains([3]), contains([4])`, `.u | index("ü"), index("x"), index("")`,
		`[.s, .u] | contains(["and"]), contains(["not"]), inside([.[], "z"])`, `.o | contains({b: 1}), contains({c: 1}), contains({})`,
		`[{a: [1, {b: "xyz"}]}] | contains([{a: [{b: "y"}]}])`, `getpath(["o","b"]), getpath(["no","b"])`, `.n | map(IN(1, 2))`,
		`"and" | inside("x and y")`,
		`"\(.n) @ \(.o)"`, `@uri "a=\(.u)", @html "<\(.u)>"`, `.n + [4] - [1], .o + {c: 1}, .o * {d: {e: 2}}, (.s / " ")`,
		`[.n[] | . * 2.5, . / 2, -.]`,
	} {
		e, err := jq.Compile(expression, "")
		if err != nil {
			t.Errorf("%s: %v", expression, err)
			continue
		}
		var got, want []any
		if err := e.Each(t.Context(), jq.Input{Value: decode(t, input)},
			func(value any) bool { got = append(got, value); return true }); err != nil {
			t.Errorf("%s: %v", expression, err)
		}
		query, err := gojq.Parse(expression)
		if err != nil {
			t.Fatal(err)
		}
		for results := query.Run(decode(t, input)); ; {
			value, more := results.Next()
			if !more {
				break
			}
			want = append(want, value)
		}
		ours, _ := json.Marshal(got)
		theirs, _ := json.Marshal(want)
		if string(ours) != string(theirs) || len(want) == 0 {
			t.Errorf("%s: %s, and by jq %s", expression, ours, theirs)
		}
	}
}

// TestRefused is of what is refused before it is ever run.
func TestRefused(t *testing.T) {
	for expression, reason := range map[string]string{
		`.a |`:                               "unexpected EOF",
		`.a | nosuch`:                        "the function nosuch cannot be used",
		`env`:                                "the function env cannot be used",
		`$ENV.PATH`:                          "$ENV cannot be used",
		`"\($ENV)"`:                          "$ENV cannot be used",
		`{$ENV}`:                             "$ENV cannot be used",
		`input`:                              "the function input cannot be used",
		`[inputs]`:                           "the function inputs cannot be used",
		`debug`:                              "the function debug cannot be used",
		`halt`:                               "the function halt cannot be used",
		`import "a" as a; .`:                 "modules cannot be used",
		`def f: f; f`:                        "the function f cannot be used",
		`def f(g): g; def h: f(h); h`:        "the function h cannot be used",
		`repeat(1)`:                          "the function repeat cannot be used",
		`until(false; .)`:                    "the function until cannot be used",
		`.a = 1`:                             "= cannot be used",
		`.[1000000000] |= 1`:                 "|= cannot be used",
		`setpath([1000000000]; 1)`:           "the function setpath cannot be used",
		`$__budget`:                          "$__budget cannot be used",
		`def _heron_x: 1; _heron_x`:          "begin with _",
		`_add(1; 2)`:                         "the function _add cannot be used",
		`@sh "x"`:                            "the format @sh cannot be used",
		`$nosuch`:                            "variable not defined",
		strings.Repeat("[", 20_000):          "longer than",
		`[.[] as {("a" * 1000000): $x} | 1]`: "computed keys",
		`"x" as [$__budget] | 1`:             "cannot be called so",
		`input_filename`:                     "cannot be used",
		`get_search_list`:                    "cannot be used",
	} {
		if _, err := jq.Compile(expression, ""); err == nil || !strings.Contains(err.Error(), reason) {
			t.Errorf("%.40s: %v; want %q", expression, err, reason)
		}
	}
}

// processorTime is what this process has taken; it does not grow while others have their
// turn, as a clock does.
func processorTime(t *testing.T) time.Duration {
	t.Helper()
	var usage syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &usage); err != nil {
		t.Fatal(err)
	}
	return time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
}

// TestBounds is of expressions that would not end, or would fill the memory.
func TestBounds(t *testing.T) {
	big := map[string]any{"s": strings.Repeat("x", 1<<20), "n": json.Number("1000000000")}
	for _, expression := range []string{
		`"x" * 1000000000`, `"x" * .n`, `.n * "x"`, `[range(1000000000)]`, `[recurse(.)]`, `[limit(1000000000; recurse(.))]`,
		`reduce range(60) as $i ("x"; . + .)`, `reduce range(60) as $i ([1]; . + .)`, `reduce range(60) as $i ("x"; "\(.)\(.)")`,
		`reduce range(60) as $i ({}; {a: ., b: .}) | tojson`, `[range(100000) as $i | .s + ""]`, `[range(100000) as $i | .s | ascii_upcase]`,
		`[range(100000) as $i | {(.s + ($i | tostring)): 1}]`, `. as $d | [range(9)] | map($d.s) | join($d.s)`,
		`.s | [range(200) as $i | explode]`,
		`reduce range(40) as $i (["a"]; [join("x"), join("y")])`, `[range(1000000)] | [.[] as $x | .[] as $y | 1]`,
		`[foreach range(1000000) as $i (0; . + 1)]`, `.s | [range(1000) as $i | @base64]`, `[range(300) as $i | @json "\(.s)"]`,
		`reduce range(60) as $i ("x"; [., .] | add)`, `[range(100) as $i | .s | gsub("x"; "yyyyyyyyyy")]`, `[range(200) as $i | .s / ""]`,
		`reduce range(30) as $i ([range(100)]; [.[], .[]])`, `reduce range(100000) as $i (2; . * .)`,
		`[range(1000) as $i | .s[:60000] | match("x"; "g")]`, `[range(10000) as $i | .s[:60000] | gsub("x*"; "yyyyyyyyyy")]`,
		`[range(2000)] | contains([range(2000) | 1999])`, `reduce range(60) as $i ("x"; gsub("(?<a>x)"; "\(.a)\(.a)"))`,
	} {
		e, err := jq.Compile(expression, "")
		if err != nil {
			t.Errorf("%s: %v", expression, err)
			continue
		}
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		begun := processorTime(t)
		value, err := e.Run(t.Context(), jq.Input{Value: big})
		taken := processorTime(t) - begun
		runtime.ReadMemStats(&after)
		runtime.KeepAlive(value)
		if made := after.TotalAlloc - before.TotalAlloc; made > 256<<20 || taken > jq.Time+2*time.Second {
			t.Errorf("%s: made %d MiB in %v", expression, made>>20, taken)
		}
		if err == nil {
			t.Errorf("%s: no error", expression)
		} else if !errors.Is(err, jq.ErrBounds) && !strings.Contains(err.Error(), "at most") && !strings.Contains(err.Error(), "string") {
			t.Errorf("%s: %v", expression, err)
		}
	}
}

// BenchmarkPage maps a page of 1,000 entries, decoding included.
func BenchmarkPage(b *testing.B) {
	var page bytes.Buffer
	page.WriteString(`{"items":[`)
	for i := range 1000 {
		fmt.Fprintf(&page, `{"id":"f%06d","title":"Gauge %d at the weir.csv","mime":"text/csv","bytes":"%d","changed":"2026-11-23T10:11:12.345Z","etag":"\"%d\"","md5":"d41d8cd98f00b204e9800998ecf8427e","parents":["root"],"trashed":false},`, i, i, i*10, i)
	}
	page.Truncate(page.Len() - 1)
	page.WriteString(`],"next":null}`)
	var fields []*jq.Expr
	for _, source := range []string{".title", ".id", `if .mime == "x/folder" then "folder" else "file" end`, ".bytes | tonumber", ".changed",
		".etag", ".md5", ".trashed"} {
		e, err := jq.Compile(source, "")
		if err != nil {
			b.Fatal(err)
		}
		fields = append(fields, e)
	}
	items, _ := jq.Compile(".items[]", "")
	b.SetBytes(int64(page.Len()))
	for b.Loop() {
		decoder := json.NewDecoder(bytes.NewReader(page.Bytes()))
		decoder.UseNumber()
		var body any
		if err := decoder.Decode(&body); err != nil {
			b.Fatal(err)
		}
		n := 0
		_ = items.Each(b.Context(), jq.Input{Value: body}, func(item any) bool {
			for _, field := range fields {
				if _, err := field.Run(b.Context(), jq.Input{Value: item}); err != nil {
					b.Fatal(err)
				}
			}
			n++
			return true
		})
		if n != 1000 {
			b.Fatal(n)
		}
	}
}
