package plan

import (
	"deftheron/core/remedy"
)

// Priority is how a run stands to others: which begins first, where not all may, and how
// much of an account it gets that others use as well.
type Priority string

// The priorities. Normal is the default.
const (
	Low    Priority = "low"
	Normal Priority = ""
	High   Priority = "high"
)

// ParsePriority reads a priority; empty is Normal.
func ParsePriority(text string) (Priority, error) {
	switch text {
	case "", "normal":
		return Normal, nil
	case "low", "high":
		return Priority(text), nil
	}
	return Normal, remedy.Errorf("%q is not a priority; use low, normal or high", text)
}

// Text is the priority as ParsePriority reads it.
func (p Priority) Text() string {
	if p == Normal {
		return "normal"
	}
	return string(p)
}

// Weight is how much of an account a run gets, beside others.
func (p Priority) Weight() int64 {
	switch p {
	case Low:
		return 1
	case High:
		return 4
	}
	return 2
}
