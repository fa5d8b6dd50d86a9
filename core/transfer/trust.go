package transfer

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"strings"

	"deftheron/core/plan"
	"deftheron/core/store"
)

// Pairs belong to the two places that were compared. The names of the accounts do not
// identify these: an account can be edited to lead to another bucket or start folder, and
// the records or a place can be restored to an earlier state. So the pairs of a route are
// kept with an epoch: the places of its ends, and, for synced folders, a token that is also
// stored at the ends and changes with every run. If any of these differs, the pairs are not
// trusted: only their names are used, and the next pass compares the contents of both places
// and removes nothing.

// Epoch is what tells whether pairs are of the places that a route leads to.
type Epoch struct {
	// Place is where the ends are, as far as the accounts report it.
	Place string
	// Token lies at the ends. Next is the one that is about to.
	Token, Next string
	// Ends are those that hold the token: "source", "target" or both, with a
	// space between.
	Ends string
}

func (e Epoch) holds(end string) bool { return strings.Contains(e.Ends, end) }

// placeOf is where the ends of a route are.
func placeOf(route Route) string {
	var ends []string
	for _, side := range []Side{route.Source, route.Target} {
		ends = append(ends, store.Locate(side.Store, folderOf(side)))
	}
	return strings.Join(ends, "\n")
}

// ends of a route, by their names in Epoch.
func (r Route) ends() map[string]Side { return map[string]Side{"source": r.Source, "target": r.Target} }

// findTrust decides of a route whether its pairs are believed.
func (r *Run) findTrust(ctx context.Context, i int) error {
	route := &r.Routes[i]
	if route.Scope == "" {
		return nil
	}
	kept, err := r.Records.Epoch(ctx, route.Scope)
	if err != nil {
		return err
	}
	trusted, err := r.isTrusted(ctx, *route, kept)
	if err != nil {
		return err
	}
	if trusted {
		return r.renewToken(ctx, *route)
	}
	known, err := r.Records.Known(ctx, route.Scope)
	if err != nil {
		return err
	}
	if known == 0 && kept == (Epoch{}) {
		return r.renewToken(ctx, *route)
	}
	r.Log.Warn("records of earlier runs belong to another place or state and are not used", "run", r.ID, "source",
		route.Source.Address.String(),
		"target", route.Target.Address.String())
	if err := r.Records.DistrustPairs(ctx, route.Scope); err != nil {
		return err
	}
	r.change(i, func(route, _ *Route) { route.Merges = true }) // until a pass has brought both together
	return nil
}

// isTrusted reports whether a route leads to the places of its epoch.
func (r *Run) isTrusted(ctx context.Context, route Route, kept Epoch) (bool, error) {
	if kept.Place != placeOf(route) {
		return false, nil
	}
	if !r.Witnessed || !r.Rules.Type.Removes() {
		return true, nil
	}
	for end, side := range route.ends() {
		if !kept.holds(end) {
			continue
		}
		token, err := readToken(ctx, side, route.Scope)
		if err != nil {
			return false, err
		}
		if token == "" || token != kept.Token && token != kept.Next {
			return false, nil
		}
	}
	return kept.Ends != "", nil
}

// keepTrust begins the epoch of the routes that a pass has brought together.
func (r *Run) keepTrust(ctx context.Context) error {
	for i := range r.Routes {
		route := &r.Routes[i]
		if !route.Merges || !r.isListed(r.forward(i)) {
			continue
		}
		if route.Back {
			continue
		}
		r.change(i, func(route, _ *Route) { route.Merges = false })
		if err := r.renewToken(ctx, *route); err != nil {
			return err
		}
	}
	return nil
}

// renewToken begins a new epoch of a route.
func (r *Run) renewToken(ctx context.Context, route Route) error {
	epoch := Epoch{Place: placeOf(route)}
	if !r.Witnessed || !r.Rules.Type.Removes() {
		kept, err := r.Records.Epoch(ctx, route.Scope)
		if err == nil && kept.Place != epoch.Place {
			err = r.Records.SetEpoch(ctx, route.Scope, epoch)
		}
		return err
	}
	kept, err := r.Records.Epoch(ctx, route.Scope)
	if err != nil {
		return err
	}
	var random [16]byte
	rand.Read(random[:])
	epoch.Token = hex.EncodeToString(random[:])
	if kept.Place == epoch.Place && kept.Token != "" {
		kept.Next = epoch.Token // either is found at an end where this is interrupted
		if err := r.Records.SetEpoch(ctx, route.Scope, kept); err != nil {
			return err
		}
	}
	for _, end := range []string{"source", "target"} {
		held, err := r.writeToken(ctx, route.ends()[end], route.Scope, epoch.Token)
		if err != nil {
			return err
		}
		if held {
			epoch.Ends = strings.TrimSpace(epoch.Ends + " " + end)
		}
	}
	return r.Records.SetEpoch(ctx, route.Scope, epoch)
}

// tokenRef is where the token of a scope lies in an account.
func tokenRef(scope string) store.Ref {
	sum := sha256.Sum256([]byte(scope))
	return store.Folder{Path: store.MakePath(store.OwnFolder, "sync")}.Ref(hex.EncodeToString(sum[:8])).As(store.KindFile)
}

const tokenSize = 32

func readToken(ctx context.Context, side Side, scope string) (string, error) {
	body, err := side.Store.Open(ctx, store.Reading{Place: tokenRef(scope)})
	if kind := store.KindOf(err); kind == store.ErrNotFound || kind == store.ErrRefused || kind == store.ErrNameRefused {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer body.Close()
	token, err := io.ReadAll(io.LimitReader(body, tokenSize))
	return string(token), err
}

// writeToken writes a token at an end, and reports whether it could: a source may be
// for reading alone.
func (r *Run) writeToken(ctx context.Context, side Side, scope, token string) (bool, error) {
	if side.Store.Traits().ReadOnly {
		return false, nil
	}
	ref := tokenRef(scope)
	err := r.folders.ensure(ctx, side, ref.Folder.Path)
	if err == nil {
		_, err = side.Store.Write(ctx, store.Writing{Place: ref, Size: int64(len(token)), If: store.Any, Run: r.ID,
			Content: canaryContent(token)})
	}
	switch store.KindOf(err) {
	case store.ErrRefused, store.ErrNameRefused, store.ErrUnsupported:
		if r.Rules.Type == plan.Mirror {
			return false, nil
		}
	}
	return err == nil, err
}
