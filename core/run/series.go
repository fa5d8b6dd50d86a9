package run

import (
	"encoding/json"
	"fmt"
	"time"
)

// MostPoints bounds how many points a series has.
const MostPoints = 2000

// Waits are how long the lanes of a run have waited, added up over all lanes.
type Waits struct {
	Source time.Duration // reading from the source
	Target time.Duration // writing to the target, and verifying there
	Limit  time.Duration // for a bandwidth limit
	Slots  time.Duration // for their turn at an account
}

// minus returns the waits since an earlier moment.
func (w Waits) minus(before Waits) Waits {
	return Waits{Source: max(0, w.Source-before.Source), Target: max(0, w.Target-before.Target), Limit: max(0, w.Limit-before.Limit),
		Slots: max(0, w.Slots-before.Slots)}
}

func (w Waits) plus(other Waits) Waits {
	return Waits{Source: w.Source + other.Source, Target: w.Target + other.Target, Limit: w.Limit + other.Limit, Slots: w.Slots + other.Slots}
}

// Sample is what a run has come to at a moment. Counts and times are totals that only grow
// while the run is worked on. After a pause or a restart they may start at other values.
type Sample struct {
	At                               time.Time
	Bytes, Items, Retries, SlowDowns int64
	InFlight                         int
	Limit                            int64 // the bandwidth limit in force, in bytes a second; 0 is none
	Waits                            Waits
	Processor                        float64 // the share of this machine's processors that the program uses, 0 to 1
}

// Point is what a run did in one interval.
type Point struct {
	At                               int64 // the end of the interval, in ms since the series started
	Span                             int64 // its length in ms
	Bytes, Items, Retries, SlowDowns int64
	InFlight                         int64 // at most
	Limit                            int64 // in bytes a second; 0 is none
	Waits                            Waits
	Processor                        float64
}

// Series is the progress of a run over its whole life: at most MostPoints points. When it is
// full, each two neighbours become one, and from then on intervals are twice as long. The
// zero value is empty.
type Series struct {
	Started time.Time
	Every   time.Duration // the length of new intervals
	Points  []Point

	last    Sample
	resumed bool // last belongs to the present work on the run
}

// firstEvery is the length of the first intervals.
const firstEvery = time.Second

// Add adds a sample. The first one of a stretch of work is where it starts. Samples that come
// faster than the intervals of the series are put together; final ends the last interval early.
func (s *Series) Add(sample Sample, final bool) {
	if s.Every == 0 {
		s.Started, s.Every = sample.At, firstEvery
	}
	if !s.resumed {
		s.last, s.resumed = sample, true
		return
	}
	span := sample.At.Sub(s.last.At)
	if span < s.Every*9/10 && !final || span <= 0 { // a ticker may come a little early
		return
	}
	point := Point{
		At: sample.At.Sub(s.Started).Milliseconds(), Span: max(1, span.Milliseconds()), Bytes: max(0, sample.Bytes-s.last.Bytes),
		Items: max(0, sample.Items-s.last.Items), Retries: max(0, sample.Retries-s.last.Retries),
		SlowDowns: max(0, sample.SlowDowns-s.last.SlowDowns), InFlight: int64(sample.InFlight), Limit: sample.Limit,
		Waits: sample.Waits.minus(s.last.Waits), Processor: sample.Processor,
	}
	s.last = sample
	if n := len(s.Points); n > 0 && point.idle() && s.Points[n-1].idle() && point.At-point.Span <= s.Points[n-1].At {
		s.Points[n-1] = s.Points[n-1].and(point) // hours in which nothing moves are one point
		return
	}
	s.Points = append(s.Points, point)
	if len(s.Points) >= MostPoints {
		s.halve()
	}
}

// idle reports whether nothing was done or waited for.
func (p Point) idle() bool {
	return p.Bytes == 0 && p.Items == 0 && p.Retries == 0 && p.SlowDowns == 0 && p.InFlight == 0 && p.Waits == Waits{}
}

// halve puts each two neighbours together.
func (s *Series) halve() {
	half := s.Points[:0]
	for i := 0; i < len(s.Points); i += 2 {
		if i+1 < len(s.Points) {
			half = append(half, s.Points[i].and(s.Points[i+1]))
		} else {
			half = append(half, s.Points[i])
		}
	}
	s.Points, s.Every = half, s.Every*2
}

// and returns two neighbours as one point. A pause between them is no part of its span.
func (p Point) and(next Point) Point {
	span := p.Span + next.Span
	return Point{
		At: next.At, Span: span, Bytes: p.Bytes + next.Bytes, Items: p.Items + next.Items, Retries: p.Retries + next.Retries,
		SlowDowns: p.SlowDowns + next.SlowDowns, InFlight: max(p.InFlight, next.InFlight), Limit: max(p.Limit, next.Limit),
		Waits:     p.Waits.plus(next.Waits),
		Processor: (p.Processor*float64(p.Span) + next.Processor*float64(next.Span)) / float64(span),
	}
}

// Columns is a series as it is stored and sent: a list of numbers for each column, one for each
// point, so that no name is repeated.
type Columns struct {
	Started   int64   `json:"started" doc:"When the series starts, in ms since 1970."`
	Every     int64   `json:"every" doc:"The length of new intervals in ms."`
	At        []int64 `json:"at" doc:"The end of each interval, in ms since the series started."`
	Span      []int64 `json:"span" doc:"Its length in ms."`
	Bytes     []int64 `json:"bytes" doc:"Bytes transferred in it."`
	Items     []int64 `json:"items" doc:"Items finished in it."`
	Retries   []int64 `json:"retries"`
	SlowDowns []int64 `json:"slow_downs" doc:"Answers that asked to slow down."`
	InFlight  []int64 `json:"in_flight" doc:"Most items in flight."`
	Limit     []int64 `json:"limit" doc:"The bandwidth limit in force, in bytes a second; 0 is none."`
	Source    []int64 `json:"source" doc:"Time that all lanes spent reading from the source, in ms."`
	Target    []int64 `json:"target" doc:"Time that all lanes spent writing to the target, in ms."`
	Limited   []int64 `json:"limited" doc:"Time that all lanes waited for a bandwidth limit, in ms."`
	Slots     []int64 `json:"slots" doc:"Time that all lanes waited for their turn at an account, in ms."`
	Processor []int64 `json:"processor" doc:"Use of this machine's processors, in thousandths."`
}

func (e *Columns) all() []*[]int64 {
	return []*[]int64{&e.At, &e.Span, &e.Bytes, &e.Items, &e.Retries, &e.SlowDowns, &e.InFlight, &e.Limit, &e.Source, &e.Target, &e.Limited,
		&e.Slots, &e.Processor}
}

// Columns returns the series by columns.
func (s Series) Columns() Columns {
	e := Columns{Every: s.Every.Milliseconds()}
	if !s.Started.IsZero() {
		e.Started = s.Started.UnixMilli()
	}
	for _, column := range e.all() {
		*column = make([]int64, 0, len(s.Points))
	}
	for _, p := range s.Points {
		values := []int64{p.At, p.Span, p.Bytes, p.Items, p.Retries, p.SlowDowns, p.InFlight, p.Limit, p.Waits.Source.Milliseconds(),
			p.Waits.Target.Milliseconds(), p.Waits.Limit.Milliseconds(), p.Waits.Slots.Milliseconds(), int64(p.Processor * 1000)}
		for i, column := range e.all() {
			*column = append(*column, values[i])
		}
	}
	return e
}

// MarshalJSON implements json.Marshaler.
func (s Series) MarshalJSON() ([]byte, error) { return json.Marshal(s.Columns()) }

// UnmarshalJSON implements json.Unmarshaler.
func (s *Series) UnmarshalJSON(text []byte) error {
	var e Columns
	if err := json.Unmarshal(text, &e); err != nil {
		return err
	}
	for _, column := range e.all() {
		if len(*column) != len(e.At) {
			return fmt.Errorf("a series of %d points has a column of %d", len(e.At), len(*column))
		}
	}
	*s = Series{Every: time.Duration(e.Every) * time.Millisecond}
	if e.Started != 0 {
		s.Started = time.UnixMilli(e.Started)
	}
	for i := range e.At {
		s.Points = append(s.Points, Point{
			At: e.At[i], Span: e.Span[i], Bytes: e.Bytes[i], Items: e.Items[i], Retries: e.Retries[i], SlowDowns: e.SlowDowns[i],
			InFlight: e.InFlight[i], Limit: e.Limit[i], Waits: Waits{Source: milliseconds(e.Source[i]), Target: milliseconds(e.Target[i]),
				Limit: milliseconds(e.Limited[i]), Slots: milliseconds(e.Slots[i])}, Processor: float64(e.Processor[i]) / 1000,
		})
	}
	return nil
}

func milliseconds(n int64) time.Duration { return time.Duration(n) * time.Millisecond }
