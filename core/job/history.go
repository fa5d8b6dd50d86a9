package job

import (
	"time"

	"deftheron/core/history"
	"deftheron/core/names"
	"deftheron/core/plan"
	"deftheron/core/remedy"
)

// History says which earlier versions of files are kept at the target, and for how long.
type History struct {
	Keep     Keep     `yaml:"keep,omitempty,flow" json:"keep,omitzero" doc:"Which versions are kept: what any of these rules keeps. Unless given, all for as long as the service keeps them."`
	Locked   string   `yaml:"locked,omitempty" json:"locked,omitempty" doc:"How long nobody can delete a version, such as 30d."`
	Off      bool     `yaml:"off,omitempty" json:"off,omitempty" doc:"Keep no versions of what is overwritten."`
	Rehearse Rehearse `yaml:"rehearse,omitempty,flow" json:"rehearse,omitzero" doc:"When a restore is rehearsed automatically."`
	Only     bool     `yaml:"additions-only,omitempty" json:"additions_only,omitempty" doc:"Nothing at the target can be deleted through the service: an archive that never loses anything. Of copy jobs alone."`
}

// Keep are rules of retention. Times are such as 36h, 30d, 8w, 6mo or 2y.
type Keep struct {
	All      string `yaml:"all,omitempty" json:"all,omitempty" doc:"Every version, for this long after it was replaced."`
	Hourly   string `yaml:"hourly,omitempty" json:"hourly,omitempty" doc:"What was there at the end of each hour, for this long."`
	Daily    string `yaml:"daily,omitempty" json:"daily,omitempty" doc:"What was there at the end of each day, for this long."`
	Weekly   string `yaml:"weekly,omitempty" json:"weekly,omitempty" doc:"What was there at the end of each week, for this long."`
	Monthly  string `yaml:"monthly,omitempty" json:"monthly,omitempty" doc:"What was there at the end of each month, for this long."`
	Versions int    `yaml:"versions,omitempty" json:"versions,omitempty" minimum:"0" doc:"The newest versions of each file, however old they are."`
}

// Rehearse says how often a restore is rehearsed, and of how many files.
type Rehearse struct {
	Every string `yaml:"every,omitempty" json:"every,omitempty" doc:"How often, such as 7d or 1mo; never unless given."`
	Files int    `yaml:"files,omitempty" json:"files,omitempty" minimum:"0" doc:"Files chosen at random, in addition to the newest and the largest: 20 unless given."`
	All   bool   `yaml:"all,omitempty" json:"all,omitempty" doc:"Restore all files, not a choice of them."`
}

// usualRehearsed is Rehearse.Files unless it is given.
const usualRehearsed = 20

// Choice is how many files are chosen; 0 is all.
func (r Rehearse) Choice() int {
	switch {
	case r.All:
		return 0
	case r.Files <= 0:
		return usualRehearsed
	}
	return r.Files
}

// Due returns when the next rehearsal is due after one that was at a time; ok is false where
// none is.
func (r Rehearse) Due(last time.Time) (due time.Time, ok bool) {
	every, err := span(r.Every, "rehearse: every")
	return last.Add(every), err == nil && every > 0
}

// IsZero reports whether nothing is said.
func (k Keep) IsZero() bool { return k == Keep{} }

// IsZero reports whether nothing is said.
func (h History) IsZero() bool { return h == History{} }

// span reads an age as a span of time.
func span(text, of string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	now := time.Now()
	at, err := plan.ParseAge(text, now)
	if err != nil || !at.Before(now) {
		return 0, remedy.Errorf("%q is not a time for %s; write it as 36h, 30d, 8w, 6mo or 2y", text, of)
	}
	return now.Sub(at), nil
}

// Read reads the rules; the zero Retention where none are given.
func (k Keep) Read() (r history.Retention, err error) {
	if k.IsZero() {
		return r, nil
	}
	for _, one := range []struct {
		text, of string
		span     *time.Duration
	}{
		{k.All, "all", &r.All}, {k.Hourly, "hourly", &r.Hourly}, {k.Daily, "daily", &r.Daily}, {k.Weekly, "weekly", &r.Weekly},
		{k.Monthly, "monthly", &r.Monthly},
	} {
		if *one.span, err = span(one.text, "keep: "+one.of); err != nil {
			return r, err
		}
	}
	if r.Versions = k.Versions; r.Versions < 0 {
		return r, remedy.Errorf("%d versions cannot be kept; give 1 or more", r.Versions)
	}
	return r, r.Check()
}

// checkHistory returns which of a job's rules contradict its history.
func (s Spec) checkHistory() error {
	h := s.History
	if _, err := h.Keep.Read(); err != nil {
		return err
	}
	if _, err := span(h.Locked, "locked"); err != nil {
		return err
	}
	if _, err := span(h.Rehearse.Every, "rehearse: every"); err != nil {
		return err
	}
	switch {
	case h.Rehearse.All && h.Rehearse.Files > 0:
		return remedy.Errorf("a rehearsal restores all files or a choice of them; remove all, or files")
	case h.Off && (!h.Keep.IsZero() || h.Locked != "" || h.Only):
		return remedy.Errorf("history: off keeps nothing, and the other rules of history contradict that; remove one or the other")
	case s.Rules.Deletions == string(plan.DeleteToo) && !h.IsZero() && !h.Off:
		return remedy.Errorf("deletions: delete keeps no versions, and history contradicts that; use deletions: keep-version, or remove history")
	case h.Only && s.Type != Copy:
		return remedy.Errorf("additions-only is for copy jobs, and the job is a %s; remove it, or use the type copy", s.Type)
	}
	return nil
}

// read sets the rules of a run by its job's history.
func (h History) read(rules *plan.Rules) (err error) {
	rehearsed := h
	rehearsed.Rehearse = Rehearse{}
	rules.NoHistory, rules.Tracked = h.Off, !rehearsed.IsZero() && !h.Off
	rules.Superseded = !h.Keep.IsZero() && runStepsOf(rules.As) > 0
	rules.Locked, err = span(h.Locked, "locked")
	return err
}

func runStepsOf(template string) int {
	parsed, err := names.ParseTemplate(template)
	if err != nil || template == "" {
		return 0
	}
	return parsed.RunSteps()
}

// LocksRuns reports whether the job puts each run into a folder of its own, and nobody may
// delete what is there for a time after a later run.
func (s Spec) LocksRuns() bool {
	return s.History.Locked != "" && !s.History.Keep.IsZero() && runStepsOf(s.Rules.As) > 0
}
