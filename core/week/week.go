// Package week reads hours of the week, such as "mon-fri 22:00-06:00, sat, sun", in the
// one way in which they are written everywhere.
package week

import (
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"deftheron/core/remedy"
)

// Stretch is on some days (of time.Weekday), from a minute of the day on, until another,
// which is on the next day where it is not later. Until is -1 where it has no end.
type Stretch struct {
	Days        [7]bool
	From, Until int
}

// Holds reports whether a moment is in a stretch that has an end, by the moment's own
// clock and time zone.
func (s Stretch) Holds(at time.Time) bool {
	day, minute := int(at.Weekday()), at.Hour()*60+at.Minute()
	if s.From < s.Until {
		return s.Days[day] && minute >= s.From && minute < s.Until
	}
	return s.Days[day] && minute >= s.From || s.Days[(day+6)%7] && minute < s.Until
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Read reads "mon-fri 22:00-06:00, sat, sun 10-12": a comma and a space part stretches, a
// comma alone joins days (sat,sun 10-12). Days alone are whole, daily is all days, and
// hours alone are on all days. Where ends is true, each needs an end; else days alone
// have the times of those that follow.
func Read(text string, ends bool) (stretches []Stretch, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	var days []string // that wait for the times of the next
	parts := strings.Split(text, ",")
	for i, part := range parts {
		fields := strings.Fields(strings.ToLower(part))
		if len(fields) == 0 || len(fields) > 2 {
			return nil, remedy.Errorf("%q is not a stretch of the week; write it as \"mon-fri 22:00-06:00\"", strings.TrimSpace(part))
		}
		one := Stretch{Until: -1}
		if strings.ContainsAny(fields[0], "0123456789") {
			fields = append([]string{"mon-sun"}, fields...)
		}
		days = append(days, fields[0])
		if len(fields) == 1 {
			if ends && (i+1 == len(parts) || !joins(parts[i+1])) {
				one.Until = 24 * 60
				if err := one.take(days); err != nil {
					return nil, err
				}
				stretches, days = append(stretches, one), nil
			}
			continue
		}
		if err := one.take(days); err != nil {
			return nil, err
		}
		days = nil
		from, until, spans := strings.Cut(fields[1], "-")
		if one.From, err = minute(from); err != nil {
			return nil, err
		}
		if spans {
			if one.Until, err = minute(until); err != nil {
				return nil, err
			}
		}
		if ends && !spans {
			return nil, remedy.Errorf("%q has no end; write it as \"mon-fri 22:00-06:00\"", strings.TrimSpace(part))
		}
		if one.From == one.Until {
			return nil, remedy.Errorf("%q ends when it begins; give two different times", strings.TrimSpace(part))
		}
		stretches = append(stretches, one)
	}
	if len(days) > 0 {
		return nil, remedy.Errorf("%q names no time; write it as \"mon-fri 22:00\" or \"mon-fri 22:00-06:00\"", strings.Join(days, ", "))
	}
	return stretches, nil
}

// joins reports whether what follows a comma joins the days before it: further days, with
// no space between.
func joins(part string) bool {
	return part != "" && unicode.IsLetter(rune(part[0]))
}

// take takes days such as "mon", "mon-fri" and "fri-mon".
func (s *Stretch) take(texts []string) error {
	for _, text := range texts {
		first, last, spans := strings.Cut(text, "-")
		if text == "daily" {
			first, last, spans = "mon", "sun", true
		}
		from := slices.Index(dayNames, first)
		to := from
		if spans {
			to = slices.Index(dayNames, last)
		}
		if from < 0 || to < 0 {
			return remedy.Errorf("%q are not days of the week; use mon, tue, wed, thu, fri, sat, sun or daily, as in \"mon-fri 22:00-06:00\"", text)
		}
		for day := from; ; day = (day + 1) % 7 {
			s.Days[day] = true
			if day == to {
				break
			}
		}
	}
	return nil
}

// minute reads "22:00" or "22" as a minute of the day; "24:00" is its end.
func minute(text string) (int, error) {
	hours, minutes, ok := strings.Cut(text, ":")
	if !ok {
		minutes = "00"
	}
	h, err := strconv.Atoi(hours)
	m, err2 := strconv.Atoi(minutes)
	if err != nil || err2 != nil || len(hours) > 2 || len(minutes) != 2 || h < 0 || m < 0 || m > 59 || h*60+m > 24*60 {
		return 0, remedy.Errorf("%q is not a time of the day; write it as 22:00", text)
	}
	return h*60 + m, nil
}
