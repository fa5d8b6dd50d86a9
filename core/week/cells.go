package week

import (
	"fmt"
	"slices"
	"strings"
)

// Hours is how many hours a week has. A grid of them starts on Monday at 00:00.
const Hours = 7 * 24

// Cells returns which hours of the week some stretches cover, each as a whole. exact is false
// if a stretch starts or ends within an hour: the hour then counts as covered.
func Cells(stretches []Stretch) (cells [Hours]bool, exact bool) {
	exact = true
	for _, one := range stretches {
		exact = exact && one.From%60 == 0 && one.Until%60 == 0
		until := one.Until
		if until <= one.From {
			until += 24 * 60
		}
		for day := range 7 {
			if !one.Days[(day+1)%7] { // days of stretches start on Sunday
				continue
			}
			for hour := one.From / 60; hour*60 < until; hour++ {
				cells[(day*24+hour)%Hours] = true
			}
		}
	}
	return cells, exact
}

// span is a row of hours, which starts on a day and may go on in the days after.
type span struct{ from, length int }

// Format returns the shortest text that Read reads as the hours given; "" for none.
func Format(cells [Hours]bool) string {
	days := map[span][]int{}
	var order []span
	add := func(day int, s span) {
		if days[s] == nil {
			order = append(order, s)
		}
		days[s] = append(days[s], day)
	}
	for day := range 7 {
		for hour := 0; hour < 24; hour++ {
			at := day*24 + hour
			if !cells[at] || hour > 0 && cells[at-1] {
				continue
			}
			length := 1
			for hour+length < 24 && cells[at+length] {
				length++
			}
			if hour == 0 && length < 24 && continues(cells, day) {
				continue // it belongs to the evening before
			}
			if hour > 0 && hour+length == 24 && continues(cells, (day+1)%7) {
				length += morning(cells, (day+1)%7)
			}
			add(day, span{hour, length})
		}
	}
	slices.SortFunc(order, func(a, b span) int { return days[a][0]*24 + a.from - days[b][0]*24 - b.from })
	var parts []string
	for _, s := range order {
		parts = append(parts, part(days[s], s))
	}
	return strings.Join(parts, ", ")
}

// morning returns how many hours at the start of a day are covered.
func morning(cells [Hours]bool, day int) (n int) {
	for n < 24 && cells[day*24+n] {
		n++
	}
	return n
}

// continues reports whether the first hours of a day go on from the evening before, so that
// one stretch over midnight covers both.
func continues(cells [Hours]bool, day int) bool {
	before := (day + 6) % 7
	n := morning(cells, day)
	if n == 0 || n == 24 || !cells[before*24+23] {
		return false
	}
	evening := 0
	for evening < 24 && cells[before*24+23-evening] {
		evening++
	}
	return evening < 24 && n < 24-evening // a stretch is shorter than a day
}

var gridDays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// part is one stretch of some days: "mon-fri 22:00-06:00", or "sat,sun" for whole days.
func part(days []int, s span) string {
	var names []string
	for i := 0; i < len(days); {
		j := i
		for j+1 < len(days) && days[j+1] == days[j]+1 {
			j++
		}
		switch {
		case j-i >= 2:
			names = append(names, gridDays[days[i]]+"-"+gridDays[days[j]])
		default:
			for ; i <= j; i++ {
				names = append(names, gridDays[days[i]])
			}
		}
		i = j + 1
	}
	text := strings.Join(names, ",")
	if len(days) == 7 {
		text = "daily"
	}
	if s.length == 24 && s.from == 0 {
		return text
	}
	until := s.from + s.length
	if until > 24 {
		until -= 24
	}
	return fmt.Sprintf("%s %02d:00-%02d:00", text, s.from, until)
}
