package api

import (
	"context"
	"slices"

	"deftheron/core/annotation"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/annotations"
	"deftheron/service/index"
)

// mostTagged is among how many entries with a tag it is searched.
const mostTagged = 10_000

// onlyTagged limits a search to entries that have all of the tags. It returns the addresses of
// those that the index does not know.
func (s *Server) onlyTagged(ctx context.Context, asked *index.Asked, tags []string) (unlisted []store.Address, err error) {
	if len(tags) == 0 {
		return nil, nil
	}
	var folds []string
	for _, text := range tags {
		tag, err := annotation.Tag(text)
		if err != nil {
			return nil, err
		}
		folds = append(folds, annotation.Fold(tag))
	}
	var places []index.Place
	addresses := map[string]store.Address{}
	for after := (annotations.Cursor{}); ; {
		found, next, err := s.Annotations.Below(ctx, store.Address{}, tags[0], after, 500)
		if err != nil {
			return nil, err
		}
		for _, one := range found {
			if !hasAll(one.Tags, folds) {
				continue
			}
			places = append(places, index.Place{Link: one.Account, Steps: one.Address.Steps, Kind: one.Annotated.Place().Kind})
			addresses[placeKey(places[len(places)-1])] = one.Address
		}
		if len(places) > mostTagged {
			return nil, remedy.Errorf("more than %d files have the tag %q; add another tag, or name a folder to look in", mostTagged, tags[0])
		}
		if next == nil {
			break
		}
		after = *next
	}
	ids, unknown, err := s.Index.IDs(ctx, places)
	asked.Only = ids
	for _, place := range unknown {
		unlisted = append(unlisted, addresses[placeKey(place)])
	}
	return unlisted, err
}

func placeKey(place index.Place) string {
	return place.Link + (store.Address{Account: "x", Steps: place.Steps}).String() + "|" + string(place.Kind)
}

// hasAll reports whether tags hold all that are folded.
func hasAll(tags, folds []string) bool {
	for _, fold := range folds {
		if !slices.ContainsFunc(tags, func(tag string) bool { return annotation.Fold(tag) == fold }) {
			return false
		}
	}
	return true
}

// tagged returns hits for entries that the index does not know, because their accounts are not
// indexed or not listed yet. It looks up each of them.
func (s *Server) tagged(ctx context.Context, asked index.Asked, addresses []store.Address) (hits []index.Hit) {
	for _, address := range addresses {
		if len(hits) == asked.Most {
			break
		}
		node, err := s.Tree.Stat(ctx, address)
		if err != nil || tree.Sees(ctx, address) != tree.Seen {
			continue // it is missing, or cannot be looked at now
		}
		hit := index.Hit{Address: address, Name: node.Name, Kind: node.Kind, Size: node.Size, Modified: node.Modified}
		if asked.Passes(hit) {
			hits = append(hits, hit)
		}
	}
	return hits
}

// tagsOf returns the tags of hits, by their position.
func (s *Server) tagsOf(ctx context.Context, hits []index.Hit) ([][]string, error) {
	tags := make([][]string, len(hits))
	for i, hit := range hits {
		one, err := s.Annotations.Known(ctx, hit.Address, hit.Kind)
		if err != nil {
			return nil, err
		}
		tags[i] = one.Tags
	}
	return tags, nil
}
