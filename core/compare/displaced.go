package compare

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"deftheron/core/store"
)

// displaced is the place at the source where an entry of the target belongs.
type displaced struct {
	// elsewhere is set if the entry belongs to an entry of the source with another
	// name, and is yielded with that.
	elsewhere bool
	key       store.Key
	pair      *Pair // where the names differ, and it is remembered
}

// openFolder is a folder by its names at both sides.
type openFolder struct{ key, to store.Key }

// enter remembers the names of a folder that both sides have, while the merge is in it.
func (l *looker) enter(d Difference) {
	if !l.streams.whole() || d.Kind != store.KindFolder || d.Source == nil || d.Target == nil {
		return
	}
	for len(l.open) > 0 && !l.within(d.To, l.open[len(l.open)-1].to) {
		l.open = l.open[:len(l.open)-1]
	}
	if d.Key != d.To {
		l.open = append(l.open, openFolder{d.Key, d.To})
	}
}

func (l *looker) within(key, folder store.Key) bool {
	if l.streams.Names == nil {
		return strings.HasPrefix(string(key), string(folder))
	}
	return strings.HasPrefix(l.streams.Names.Match(key), l.streams.Names.Match(folder))
}

// inOpen returns the key at the source of an entry in a folder that has another name there;
// back is the key's translation by itself.
func (l *looker) inOpen(to, back store.Key) store.Key {
	for _, folder := range slices.Backward(l.open) {
		if !l.within(to, folder.to) {
			continue
		}
		rest := string(back)
		for range strings.Count(string(folder.to), "/") {
			_, rest, _ = strings.Cut(rest, "/")
		}
		return folder.key + store.Key(rest)
	}
	return back
}

// displaced finds where something at the target belongs that no source has by its
// name: by the record of earlier runs, or else by what its name stands for.
func (l *looker) displaced(ctx context.Context, to store.Key, kind store.Kind) (displaced, error) {
	home := displaced{key: to}
	if l.streams.AtSource == nil {
		return home, nil
	}
	if l.streams.whole() {
		pair, err := l.streams.PairTo(ctx, to)
		if err != nil {
			return home, fmt.Errorf("could not read the record of earlier runs: %w", err)
		}
		if pair != nil && pair.Key != to {
			home.key, home.pair = pair.Key, pair
		}
	}
	if home.pair == nil {
		back, ok := store.Key(""), false
		if l.streams.Names != nil {
			back, ok = l.streams.Names.Back(to, kind)
		}
		if !ok {
			back = to
		}
		if home.key = l.inOpen(to, back); home.key == to {
			return home, nil
		}
	}
	entry, err := l.streams.AtSource(ctx, home.key, kind)
	if err != nil || entry == nil || (entry.Kind == store.KindFolder) != (kind == store.KindFolder) {
		return home, err
	}
	home.elsewhere = true
	if l.streams.whole() && home.pair == nil {
		// It is that entry's only where that would be called so.
		below, _ := home.key.Split(kind)
		wanted, err := l.streams.Names.Key(store.Listed{Below: below, Entry: *entry})
		home.elsewhere = err == nil && l.streams.Names.Match(wanted) == l.streams.Names.Match(to)
		pair, err := l.streams.PairAt(ctx, home.key)
		if err != nil {
			return home, fmt.Errorf("could not read the record of earlier runs: %w", err)
		}
		if pair != nil && l.streams.Names.Match(pair.At()) != l.streams.Names.Match(to) {
			home.elsewhere = false // that has another place
		}
	}
	return home, nil
}

// remembered looks for an entry that the records know under another target name than the
// one that it would get now. The content of a folder follows the folder.
func (l *looker) remembered(ctx context.Context, d *Difference) error {
	if !l.streams.whole() || d.Pair == nil || d.Source == nil || d.Target != nil || d.Pair.At() == d.To {
		return nil
	}
	entry, err := l.look(ctx, d.Pair.At(), d.Kind)
	if err != nil || entry == nil {
		return err
	}
	d.To, d.Target, d.Refused = d.Pair.At(), entry, nil
	if d.Kind == store.KindFolder && l.streams.Names != nil {
		l.streams.Names.Follow(d.Key, d.To)
	}
	return nil
}

// isGone reports whether neither side holds anything of a pair that nothing by its
// key, or by the name that this has, was found of.
func (l *looker) isGone(ctx context.Context, pair *Pair) (bool, error) {
	if pair.To == "" {
		return true, nil
	}
	entry, err := l.look(ctx, pair.To, pair.kind())
	return entry == nil, err
}

func goneOf(pair *Pair) Difference {
	return Difference{Key: pair.Key, To: pair.At(), Kind: pair.kind(), Pair: pair, Verdict: Gone, Evidence: ByPair}
}
