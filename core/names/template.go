package names

import (
	"path"
	"slices"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"

	"deftheron/core/remedy"
)

// Template makes the name that a file has at its target, of what it is called, its
// date, the folder that it is in, and the run. Fields stand in braces; {{ and }}
// are braces. What parts steps is a slash.
//
//	{name}    the file's name         {stem}  without its extension
//	{ext}     the extension, no dot   {folder}  the folders that it is in, below the source
//	{account} the source's account    {date:%Y-%m}  when it was changed last, in UTC
//	{run:%Y-%m-%d}  when the run began, in UTC
//
// Dates are formatted as by POSIX strftime; without a format, as %Y-%m-%d.
type Template struct {
	text    string
	parts   []part
	account string
	run     time.Time
}

type part struct {
	literal, field, format string
}

// Fields are those that a template knows.
var Fields = []string{"name", "stem", "ext", "folder", "account", "date", "run"}

// dateSpecifiers are those of strftime that make dates and times; they may follow
// "%" or "%-".
const dateSpecifiers = "YCymBbhdejHkIlPpMSLfNzZAauwGgVUWcvFDxTXrRnt%sQ+"

// ParseTemplate reads a template. Its error says what is wrong and where; columns
// count from 1.
func ParseTemplate(text string) (*Template, error) {
	t := &Template{text: text}
	tells := false // one file from another
	rest := text
	literal := func(s string) { t.parts = append(t.parts, part{literal: s}) }
	for rest != "" {
		column := len(text) - len(rest) + 1
		switch {
		case strings.HasPrefix(rest, "{{"), strings.HasPrefix(rest, "}}"):
			literal(rest[:1])
			rest = rest[2:]
		case rest[0] == '{':
			end := strings.IndexByte(rest, '}')
			if end < 0 {
				return nil, remedy.Errorf("the template %q has a { at column %d that is not closed; write {{ for a brace", text, column)
			}
			field, format, _ := strings.Cut(rest[1:end], ":")
			if err := checkField(text, column, field, format); err != nil {
				return nil, err
			}
			if (field == "date" || field == "run") && format == "" {
				format = "%Y-%m-%d"
			}
			t.parts = append(t.parts, part{field: field, format: format})
			tells = tells || field == "name" || field == "stem"
			rest = rest[end+1:]
		case rest[0] == '}':
			return nil, remedy.Errorf("the template %q has a } at column %d that closes nothing; write }} for a brace", text, column)
		default:
			end := strings.IndexAny(rest, "{}")
			if end < 0 {
				end = len(rest)
			}
			literal(rest[:end])
			rest = rest[end:]
		}
	}
	switch {
	case text == "":
		return nil, remedy.Errorf("the template is empty; write one such as {date:%%Y-%%m}/{name}")
	case !tells:
		return nil, remedy.Errorf("the template %q gives all files one name; put {name} or {stem} into it", text)
	case strings.HasSuffix(text, "/"):
		return nil, remedy.Errorf("the template %q ends in a folder; put {name} after it", text)
	}
	return t, nil
}

func checkField(text string, column int, field, format string) error {
	if !slices.Contains(Fields, field) {
		return remedy.Errorf("the template %q has the unknown field {%s} at column %d; there are {%s}", text, field, column,
			strings.Join(Fields, "}, {"))
	}
	if field != "date" && field != "run" {
		if format != "" {
			return remedy.Errorf("the field {%s} at column %d of the template takes no format; write {%s}", field, column, field)
		}
		return nil
	}
	for i := 0; i < len(format); i++ {
		if format[i] != '%' {
			continue
		}
		if i++; i < len(format) && (format[i] == '-' || format[i] == ':') {
			i++
		}
		if i >= len(format) || !strings.ContainsRune(dateSpecifiers, rune(format[i])) {
			return remedy.Errorf("the date in {%s:%s} at column %d of the template has the unknown part %q; "+
				"write it as POSIX strftime does, such as %%Y-%%m-%%d", field, format, column, format[max(0, i-1):min(i+1, len(format))])
		}
	}
	return nil
}

// NamesRun reports whether each run gets names of its own.
func (t *Template) NamesRun() bool {
	return slices.ContainsFunc(t.parts, func(part part) bool { return part.field == "run" })
}

// RunSteps returns how many of the first steps are the run's alone, such as 2 of
// {run:%Y}/{run:%m-%d}/{folder}/{name}: what follows them is the same in each run. It is 0
// where the run is named elsewhere too, or beside something else.
func (t *Template) RunSteps() int {
	const nothing, ofRun, other = 0, 1, 2
	steps := []int{nothing}
	add := func(text string, is int) {
		for i, step := range strings.Split(text, "/") {
			if i > 0 {
				steps = append(steps, nothing)
			}
			if step != "" {
				steps[len(steps)-1] |= is
			}
		}
	}
	for _, part := range t.parts {
		switch part.field {
		case "":
			add(part.literal, nothing) // words beside a date tell nothing apart
		case "run":
			add(part.format, ofRun)
		default:
			add("x", other)
		}
	}
	first := slices.IndexFunc(steps, func(is int) bool { return is != ofRun })
	if first <= 0 || slices.ContainsFunc(steps[first:], func(is int) bool { return is&ofRun != 0 }) {
		return 0
	}
	return first
}

// For returns the template for a source and a run.
func (t *Template) For(account string, run time.Time) *Template {
	bound := *t
	bound.account, bound.run = account, run
	return &bound
}

// String returns the template as it was written.
func (t *Template) String() string { return t.text }

// File is what a template knows of a file.
type File struct {
	Name     string
	Folder   []string
	Modified time.Time // zero: not told
}

// undated stands for the date of a file that tells none.
const undated = "undated"

// Expand returns the steps to a file's name, its own last. Steps that come to
// nothing are left out.
func (t *Template) Expand(file File) []string {
	steps := []string{""}
	add := func(text string) { steps[len(steps)-1] += text }
	for _, part := range t.parts {
		extension := path.Ext(file.Name)
		if extension == file.Name {
			extension = ""
		}
		switch part.field {
		case "":
			for i, step := range strings.Split(part.literal, "/") {
				if i > 0 {
					steps = append(steps, "")
				}
				add(step)
			}
		case "name":
			add(file.Name)
		case "stem":
			add(strings.TrimSuffix(file.Name, extension))
		case "ext":
			add(strings.TrimPrefix(extension, "."))
		case "folder":
			for i, step := range file.Folder {
				if i > 0 {
					steps = append(steps, "")
				}
				add(step)
			}
		case "account":
			add(t.account)
		case "date":
			addDate(&steps, file.Modified, part.format)
		case "run":
			addDate(&steps, t.run, part.format)
		}
	}
	return slices.DeleteFunc(steps, func(step string) bool { return step == "" })
}

func addDate(steps *[]string, at time.Time, format string) {
	text := undated
	if !at.IsZero() {
		text = strftime.Format(format, at.UTC())
	}
	for i, step := range strings.Split(text, "/") {
		if i > 0 {
			*steps = append(*steps, "")
		}
		(*steps)[len(*steps)-1] += step
	}
}
