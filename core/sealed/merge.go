package sealed

import (
	"iter"

	"deftheron/core/store"
)

// merge yields the newest entry of each key, in the order of keys. segments are sorted from
// the oldest to the newest; newer holds the newest entries of all, sorted by key.
func merge(segments []*segment, newer []*entry) iter.Seq2[*entry, error] {
	return func(yield func(*entry, error) bool) {
		var streams []*stream
		defer func() {
			for _, one := range streams {
				one.stop()
			}
		}()
		for _, one := range segments {
			streams = append(streams, pull(one.all()))
		}
		streams = append(streams, pull(func(yield func(*entry, error) bool) {
			for _, one := range newer {
				if !yield(one, nil) {
					return
				}
			}
		}))
		for {
			var least *stream
			for _, one := range streams { // later ones are newer, and win
				if one.err != nil {
					yield(nil, one.err)
					return
				}
				if one.at != nil && (least == nil || one.key <= least.key) {
					least = one
				}
			}
			if least == nil {
				return
			}
			first, key := least.at, least.key
			for _, one := range streams {
				if one != least && one.at != nil && one.key == key {
					one.advance()
				}
			}
			least.advance()
			if !yield(first, nil) {
				return
			}
		}
	}
}

// stream is one of those that are merged.
type stream struct {
	next func() (*entry, error, bool)
	stop func()
	at   *entry
	key  store.Key // of at
	err  error
}

func pull(entries iter.Seq2[*entry, error]) *stream {
	s := &stream{}
	s.next, s.stop = iter.Pull2(entries)
	s.advance()
	return s
}

func (s *stream) advance() {
	one, err, more := s.next()
	switch {
	case !more:
		s.at, s.err = nil, nil
	case err != nil:
		s.at, s.err = nil, err
	default:
		s.at, s.key, s.err = one, one.key(), nil
	}
}
