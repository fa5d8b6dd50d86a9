package transfer

import (
	"context"
	"fmt"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// Certified is a file of a source, as it was when the copies at the targets were
// certified.
type Certified struct {
	Route int
	Item  Item // its Key, To, Kind and Size; see Route.SourceAddress
	// Verification that the target holds it: the hash, or plan.VerifiedBySize. Where it is
	// empty, Cause says why it is not verified.
	Verification string
	Cause        plan.Cause
	// Digest is the BLAKE3 of the file, as KIND=HEXADECIMAL; empty where it is not
	// verified.
	Digest string
	// Run that brought it; empty where it was found there.
	Run string
}

// Certify lists both sides of the routes again, completely, compares them with the records,
// and calls each with every file of the sources, in the order of the routes and of their
// keys. Entries that the filter excludes are only counted: the files, and the folders with
// everything in them. It writes nothing.
func Certify(ctx context.Context, routes []Route, rules plan.Rules, began time.Time, memory Memory,
	each func(Certified) error) (files plan.Count, folders int64, err error) {
	var left excluded
	for i, route := range routes {
		sieve, err := rules.Filter.Sieve(began)
		if err != nil {
			return left.files, left.folders, err
		}
		differences, err := route.again(ctx, rules, began, memory, sieve)
		if err != nil {
			return left.files, left.folders, err
		}
		for d, err := range differences {
			if err != nil {
				return left.files, left.folders, fmt.Errorf("%s and %s could not be compared to the end: %w", route.Source.Address,
					route.Target.Address, err)
			}
			if d.Source == nil || d.Kind == store.KindFolder {
				continue
			}
			if err := each(certified(i, rules, d)); err != nil {
				return left.files, left.folders, err
			}
		}
		if sieve != nil {
			left.files, left.folders = left.and(sieve)
		}
	}
	return left.files, left.folders, ctx.Err()
}

func certified(route int, rules plan.Rules, d compare.Difference) Certified {
	one := Certified{Route: route, Item: Item{Key: d.Key, Kind: d.Kind, Size: d.Source.Size}}
	if d.To != d.Key {
		one.Item.To = d.To
	}
	if one.Verification, one.Cause = rules.Verified(d); one.Verification != "" && d.Pair != nil {
		one.Run, one.Digest = d.Pair.Run, d.Pair.Digest
	}
	if one.Item.Size < 0 && d.Target != nil { // of an export, what arrived
		one.Item.Size = d.Target.Size
	}
	return one
}
