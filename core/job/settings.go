package job

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"deftheron/core/bandwidth"
	"deftheron/core/plan"
	"deftheron/core/remedy"
)

// Settings decide what a run transfers and how. A copy without a job has them too. The
// zero value is the default of everything.
type Settings struct {
	Rules     Rules     `yaml:"rules,omitempty" json:"rules,omitzero" doc:"What is transferred, and how conflicts and deletions are handled."`
	Priority  string    `yaml:"priority,omitempty" json:"priority,omitempty" doc:"Which runs start first, and their share of an account: low, normal (the default) or high."`
	Retry     Retry     `yaml:"retry,omitempty,flow" json:"retry,omitzero" doc:"How often and for how long a failed item is retried."`
	Bandwidth Bandwidth `yaml:"bandwidth,omitempty,flow" json:"bandwidth,omitzero" doc:"Bandwidth limits of the run."`
}

// Rules decide which entries are transferred and how.
type Rules struct {
	Conflict     string            `yaml:"conflict,omitempty" json:"conflict,omitempty" doc:"If both sides changed, or a different file of the same name is already there: keep-both (the default), newer, source, target or ask."`
	Deletions    string            `yaml:"deletions,omitempty" json:"deletions,omitempty" doc:"What a mirror or two-way job does on one side if a file is deleted on the other: keep-version (the default; a version stays in history), delete or ignore."`
	Exclude      []string          `yaml:"exclude,omitempty,flow" json:"exclude,omitempty" doc:"Patterns of what to exclude, in gitignore syntax."`
	Include      Include           `yaml:"include,omitempty,flow" json:"include,omitzero" doc:"Transfer only files that match all of these."`
	Documents    map[string]string `yaml:"documents,omitempty,flow" json:"documents,omitempty" doc:"Export formats of documents that exist only inside a service, by class: text: odt+pdf, sheet: ods."`
	Names        string            `yaml:"names,omitempty" json:"names,omitempty" doc:"Names that the target does not allow: translate (the default) or refuse."`
	As           string            `yaml:"as,omitempty" json:"as,omitempty" doc:"A template for names below the target, with {name}, {stem}, {ext}, {folder}, {account}, {date:%Y-%m} and {run:%Y-%m-%d}. Slashes separate folders."`
	Identical    string            `yaml:"identical,omitempty" json:"identical,omitempty" doc:"Identical files of the sources of a consolidation: once (the default if sources are merged) or each."`
	Annotations  string            `yaml:"annotations,omitempty" json:"annotations,omitempty" enum:"carry" doc:"carry: copy the tags and comments of transferred files and folders to the target, after each pass. They stay where they are unless given."`
	Verification string            `yaml:"verify,omitempty" json:"verify,omitempty" doc:"How a transferred file is verified: hash (the default; read back if the target reports none), size or read-back."`
}

// CarryAnnotations is Rules.Annotations if tags and comments are carried over.
const CarryAnnotations = "carry"

// Include are filters. A file has to match all that are given.
type Include struct {
	Patterns    []string `yaml:"patterns,omitempty,flow" json:"patterns,omitempty" doc:"Patterns, in gitignore syntax."`
	Types       []string `yaml:"types,omitempty,flow" json:"types,omitempty" doc:"Types of files: documents, pictures, sound, film."`
	SmallerThan string   `yaml:"smaller-than,omitempty" json:"smaller_than,omitempty" doc:"Files below a size, such as 2GiB."`
	LargerThan  string   `yaml:"larger-than,omitempty" json:"larger_than,omitempty" doc:"Files above a size."`
	NewerThan   string   `yaml:"newer-than,omitempty" json:"newer_than,omitempty" doc:"Files changed after a date (2020-01-31) or within an age (36h, 30d, 8w, 6mo, 2y)."`
	OlderThan   string   `yaml:"older-than,omitempty" json:"older_than,omitempty" doc:"Files changed before a date or an age."`
	// Changed needs a template that gives each run a folder of its own.
	Changed bool `yaml:"changed,omitempty" json:"changed,omitempty" doc:"Files changed since an earlier run transferred them, wherever it put them."`
}

// IsZero reports whether nothing is filtered.
func (i Include) IsZero() bool {
	return len(i.Patterns) == 0 && len(i.Types) == 0 && i.SmallerThan == "" && i.LargerThan == "" && i.NewerThan == "" && i.OlderThan == "" &&
		!i.Changed
}

// Safety are the safety limits: shares such as 10%, numbers of files, or none; see
// plan.ParseShare.
type Safety struct {
	Deletions  string `yaml:"deletions,omitempty" json:"deletions,omitempty" doc:"Deletions that a run may make: 10% unless given."`
	Overwrites string `yaml:"overwrites,omitempty" json:"overwrites,omitempty" doc:"Files that a run may overwrite: 25% unless given."`
	Older      string `yaml:"older,omitempty" json:"older,omitempty" doc:"Files that a run may replace with older versions: 0 unless given."`
}

// Retry says how often and for how long a failed item is retried.
type Retry struct {
	Tries  int    `yaml:"tries,omitempty" json:"tries,omitempty" minimum:"0" doc:"Tries before an item fails: 5 unless given."`
	Within string `yaml:"within,omitempty" json:"within,omitempty" doc:"How long an item is tried, and an unreachable account is waited for, such as 2h."`
}

// Bandwidth limits rates, such as 20MB/s. "unlimited" and "" are no limit.
type Bandwidth struct {
	Up    string `yaml:"up,omitempty" json:"up,omitempty" doc:"To providers, such as 20MB/s."`
	Down  string `yaml:"down,omitempty" json:"down,omitempty" doc:"From providers."`
	Hours []Hour `yaml:"hours,omitempty,flow" json:"hours,omitempty" doc:"Limits at hours of the week, in place of up and down. The first entry that matches counts."`
}

// IsZero reports whether there is no limit.
func (b Bandwidth) IsZero() bool { return b.Up == "" && b.Down == "" && len(b.Hours) == 0 }

// Hour is a limit at hours of the week. A job file has it as {WHEN: RATE}.
type Hour struct {
	When string `json:"when" doc:"Hours of the week, such as mon-fri 08-18."`
	Rate string `json:"rate" doc:"5MB/s for both directions, or up 5MB/s, down 20MB/s."`
}

func notAnHour(line int) error {
	return &FileError{line, `hours is a list of limits, because the first that matches counts; write it as hours: [{"mon-fri 08-18": 5MB/s}]`}
}

// MarshalYAML implements yaml.Marshaler.
func (h Hour) MarshalYAML() (any, error) { return map[string]string{h.When: h.Rate}, nil }

// UnmarshalYAML implements yaml.Unmarshaler.
func (h *Hour) UnmarshalYAML(node *yaml.Node) error {
	if node.Kind != yaml.MappingNode || len(node.Content) != 2 {
		return notAnHour(node.Line)
	}
	h.When = node.Content[0].Value
	return node.Content[1].Decode(&h.Rate)
}

// Read reads bandwidth limits.
func (b Bandwidth) Read() (rule bandwidth.Rule, err error) {
	if rule.Up, err = bandwidth.ParseRate(b.Up); err != nil {
		return rule, err
	}
	if rule.Down, err = bandwidth.ParseRate(b.Down); err != nil {
		return rule, err
	}
	for _, one := range b.Hours {
		hours, err := bandwidth.ParseHours(one.When, one.Rate)
		if err != nil {
			return rule, err
		}
		rule.Hours = append(rule.Hours, hours)
	}
	return rule, nil
}

// BandwidthOf writes limits as Read reads them.
func BandwidthOf(rule bandwidth.Rule) (b Bandwidth) {
	if rule.Up != 0 {
		b.Up = rule.Up.String()
	}
	if rule.Down != 0 {
		b.Down = rule.Down.String()
	}
	for _, hours := range rule.Hours {
		b.Hours = append(b.Hours, Hour{hours.When, hours.Rates()})
	}
	return b
}

// Read reads the settings of a copy, and checks that they do not contradict each other.
func (s Settings) Read() (rules plan.Rules, err error) {
	given := s.Rules
	if rules.Conflict, err = plan.ParseConflictRule(given.Conflict); err != nil {
		return rules, err
	}
	if rules.Names, err = plan.ParseNaming(given.Names); err != nil {
		return rules, err
	}
	if rules.Documents, err = plan.ReadDocuments(given.Documents); err != nil {
		return rules, err
	}
	if rules.Verification, err = plan.ParseVerification(given.Verification); err != nil {
		return rules, err
	}
	if given.Annotations != "" && given.Annotations != CarryAnnotations {
		return rules, remedy.Errorf("%q is not a rule for tags and comments; use %s, or remove it", given.Annotations, CarryAnnotations)
	}
	rules.Annotations = given.Annotations == CarryAnnotations
	rules.As, rules.Tries, rules.OnlyChanged = given.As, s.Retry.Tries, given.Include.Changed
	if rules.Filter, err = s.Rules.filter(); err != nil {
		return rules, err
	}
	if s.Retry.Within != "" {
		if rules.Within, err = time.ParseDuration(s.Retry.Within); err != nil || rules.Within <= 0 {
			return rules, remedy.Errorf("%q is not a time to retry for; write it as 30m or 2h", s.Retry.Within)
		}
	}
	if rules.Priority, err = plan.ParsePriority(s.Priority); err != nil {
		return rules, err
	}
	if rules.Bandwidth, err = s.Bandwidth.Read(); err != nil {
		return rules, err
	}
	return rules, rules.Check()
}

func (r Rules) filter() (plan.Filter, error) {
	filter := plan.Filter{Exclude: r.Exclude, Include: r.Include.Patterns, Types: r.Include.Types, NewerThan: r.Include.NewerThan,
		OlderThan: r.Include.OlderThan}
	for _, one := range []struct {
		text string
		size *int64
	}{{r.Include.SmallerThan, &filter.SmallerThan}, {r.Include.LargerThan, &filter.LargerThan}} {
		if one.text == "" {
			continue
		}
		size, err := bandwidth.ParseSize(one.text)
		if err != nil {
			return filter, err
		}
		if size == 0 {
			return filter, remedy.Errorf("a size limit of %q has no effect; give a size such as 2GiB", one.text)
		}
		*one.size = size
	}
	return filter, nil
}

// SettingsOf writes rules as Read reads them.
func SettingsOf(rules plan.Rules) Settings {
	size := func(n int64) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n, "B")
	}
	filter := rules.Filter
	settings := Settings{
		Rules: Rules{
			Conflict: string(rules.Conflict), Deletions: string(rules.Deletions), Names: string(rules.Names), As: rules.As,
			Verification: string(rules.Verification), Exclude: filter.Exclude,
			Include: Include{
				Patterns: filter.Include, Types: filter.Types, NewerThan: filter.NewerThan, OlderThan: filter.OlderThan,
				SmallerThan: size(filter.SmallerThan), LargerThan: size(filter.LargerThan), Changed: rules.OnlyChanged,
			},
		},
		Retry: Retry{Tries: rules.Tries}, Bandwidth: BandwidthOf(rules.Bandwidth),
	}
	for class, formats := range rules.Documents {
		if settings.Rules.Documents == nil {
			settings.Rules.Documents = map[string]string{}
		}
		settings.Rules.Documents[class] = strings.Join(formats, "+")
	}
	if rules.Within > 0 {
		settings.Retry.Within = rules.Within.String()
	}
	if rules.Priority != plan.Normal {
		settings.Priority = rules.Priority.Text()
	}
	if rules.Annotations {
		settings.Rules.Annotations = CarryAnnotations
	}
	if rules.IdenticalOnce {
		settings.Rules.Identical = IdenticalOnce
	}
	return settings
}

// ReadCopy reads the settings of a copy without a job, which neither deletes nor
// consolidates.
func (s Settings) ReadCopy() (plan.Rules, error) {
	switch {
	case s.Rules.Deletions != "" && s.Rules.Deletions != string(plan.IgnoreDeletions):
		return plan.Rules{}, remedy.Errorf("a copy never deletes, and deletions: %s contradicts that; remove it, or create a mirror or "+
			"two-way job",
			s.Rules.Deletions)
	case s.Rules.Identical == IdenticalOnce:
		return plan.Rules{}, remedy.Errorf("a copy keeps every file of its source; to keep identical files once, create a job of the type " +
			"consolidate")
	}
	return s.Read()
}

// Removes reports whether jobs of the type delete files.
func (s Spec) Removes() bool { return s.Type == Mirror || s.Type == TwoWay }

// Read reads the rules of a job's runs.
func (s Spec) Read() (plan.Rules, error) {
	settings := s.Settings
	if s.Type == Mirror && settings.Rules.Conflict == "" {
		settings.Rules.Conflict = string(plan.Source)
	}
	rules, err := settings.Read()
	if err != nil {
		return rules, err
	}
	if rules.Safety, err = s.Safety.Read(); err != nil {
		return rules, err
	}
	if s.Removes() {
		if rules.Type = plan.Type(s.Type); rules.Type == plan.TwoWay {
			rules.Documents = plan.NoExports()
		}
		if rules.Deletions, err = plan.ParseDeletions(s.Rules.Deletions); err != nil {
			return rules, err
		}
	}
	if err := s.History.read(&rules); err != nil {
		return rules, err
	}
	rules.IdenticalOnce = s.Once()
	rules.Digest = s.Type == Migrate
	return rules, rules.Check()
}

// Read reads the safety limits; what is not given is as in plan.DefaultSafety.
func (s Safety) Read() (plan.Safety, error) {
	limits := plan.DefaultSafety()
	for _, one := range []struct {
		text  string
		share **plan.Share
	}{{s.Deletions, &limits.Deletions}, {s.Overwrites, &limits.Overwrites}, {s.Older, &limits.Older}} {
		if one.text == "" {
			continue
		}
		share, err := plan.ParseShare(one.text)
		if err != nil {
			return limits, fmt.Errorf("safety limits: %w", err)
		}
		*one.share = share
	}
	limits.Empty = s.Deletions != "none"
	return limits, nil
}

// DocumentsOf reads the documents rule in the form of a command's option:
// text=odt+pdf,sheet=ods.
func DocumentsOf(text string) (map[string]string, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	documents := map[string]string{}
	for part := range strings.SplitSeq(text, ",") {
		class, formats, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok || !slices.Contains(plan.Classes, class) {
			return nil, remedy.Errorf("%q is not a rule for documents; write it as text=odt+pdf,sheet=ods, with the classes %s", part,
				strings.Join(plan.Classes, ", "))
		}
		documents[class] = formats
	}
	return documents, nil
}

// ParseAge returns the moment that is an age before now: 36h, 30d, 8w, 6mo or 2y.
func ParseAge(text string, now time.Time) (time.Time, error) { return plan.ParseAge(text, now) }
