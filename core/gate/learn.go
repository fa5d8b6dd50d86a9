package gate

import (
	"time"

	"golang.org/x/time/rate"
)

// rateLearner learns the rate that a provider allows from the requests that it accepts and refuses.
//
// It judges spans of at least a second and some requests. Many refusals in the recent spans mean
// that the provider allows no more than what it accepted: the rate is set a little below that. A
// single refusal does not: providers refuse some requests at any rate, for example when their
// servers restart. At a learned rate a single refusal lowers the rate a little, and the next
// accepted requests raise it again, so that about one request in a hundred tests whether the
// provider allows more. At a rate far below the accepted one a single refusal means nothing.
//
// Time in which nothing was sent does not count.
type rateLearner struct {
	since             time.Time // of the span
	last              time.Time // when something was sent
	accepted, refused float64   // in the span
	// lately holds the same of the spans before, each less than the next.
	lately struct{ accepted, refused float64 }
	best   float64 // requests a second that were accepted
	calm   float64 // requests accepted since one was refused
	// late is set if the results of requests arrive late: more requests are sent meanwhile.
	late    bool
	slowed  time.Time // when a request was refused last
	lowered time.Time // when many refusals lowered the rate last
}

const (
	// spanRequests is how many requests a span has, unless it lasts for longestSpan.
	spanRequests = 20
	longestSpan  = 5 * time.Second
	// silence ends a span: a time in which nothing was sent.
	silence = time.Second
	// fewRefusals, and refusedPart of the requests, are too little to learn from.
	fewRefusals, refusedPart = 3, 0.04
	// fade is what of earlier spans counts.
	fade = 0.8
	// back is by how much a refusal lowers the rate, and climb in how many accepted requests it is
	// there again, or by leastRise a second; after calmAfter of them without a refusal it rises
	// faster, by mostRise a span.
	back, climb, leastRise, calmAfter, mostRise = 0.03, 200, 0.002, 400, 0.05
	// lateRise is how much the rate rises a second, at most, if it is learned late how requests end.
	lateRise, lateCalm = 0.004, 15 * time.Second
	// lateFor is how late that may be learned.
	lateFor = 2 * time.Second
	// leastRate is a request in two seconds.
	leastRate = 0.5
)

// sent notes that a request is sent.
func (l *rateLearner) sent(now time.Time) {
	if now.Sub(l.last) > silence {
		l.fold(now)
	}
	l.last = now
}

// learn takes in how a request ended, and returns the rate from now on. Before until nothing is
// sent, as the provider asked.
func (l *rateLearner) learn(now, until time.Time, limit rate.Limit, refused bool) rate.Limit {
	if l.late && now.Sub(l.lowered) < lateFor { // it was sent at the rate of before
		l.since, l.accepted, l.refused = now, 0, 0
		return limit
	}
	if refused {
		l.refused++
		l.calm, l.slowed = 0, now
	} else {
		l.accepted++
		l.calm++
	}
	elapsed := now.Sub(l.since)
	if elapsed < time.Second || elapsed < longestSpan && l.accepted+l.refused < spanRequests {
		return limit
	}
	next := l.judge(elapsed, limit)
	if l.fold(now); until.After(now) {
		l.since = until
	}
	return next
}

// fold ends the span and adds its requests to the recent ones.
func (l *rateLearner) fold(now time.Time) {
	l.lately.accepted, l.lately.refused = fade*l.lately.accepted+l.accepted, fade*l.lately.refused+l.refused
	l.since, l.accepted, l.refused = now, 0, 0
}

// judge returns the rate after a span.
func (l *rateLearner) judge(span time.Duration, limit rate.Limit) rate.Limit {
	seen := l.accepted / span.Seconds()
	refused := fade*l.lately.refused + l.refused
	of := fade*l.lately.accepted + l.accepted + refused
	if l.refused > 0 && refused >= fewRefusals && refused >= refusedPart*of {
		l.lately.accepted, l.lately.refused, l.accepted, l.refused = 0, 0, 0, 0
		l.best, l.lowered = max(leastRate, (1-back)*min(seen, float64(limit))), l.last
		return rate.Limit(l.best)
	}
	if limit == rate.Inf {
		l.best = max(seen, 0.99*l.best)
		return limit
	}
	binding := seen > 0.7*float64(limit) // the rate is what holds requests back
	switch {
	case l.refused > 0 && binding && float64(limit) >= 0.9*l.best:
		return max(leastRate, limit*(1-back))
	case l.refused > 0:
		return limit
	case float64(limit) < 0.9*l.best:
		return limit * 1.1
	case !binding:
		return limit
	}
	rise := max(back*l.accepted/climb, leastRise*span.Seconds())
	if l.calm > calmAfter {
		rise *= l.calm / calmAfter
	}
	if l.late { // and more the longer nothing was refused
		calm := l.last.Sub(l.slowed)
		rise = min(max(rise, lateRise*span.Seconds()), lateRise*span.Seconds()*(1+max(0, calm-lateCalm).Seconds()))
	}
	l.best = max(min(seen, float64(limit)), 0.99*l.best)
	return limit * rate.Limit(1+min(rise, mostRise))
}
