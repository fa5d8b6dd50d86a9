package api

import (
	"context"
	"errors"

	"deftheron/contract"
	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/messages"
	"deftheron/service/runner"
)

// place finds where an address, and names below it, lead, for something that is
// to be changed there.
func (s *Server) place(ctx context.Context, text string, names ...string) (tree.Located, error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return tree.Located{}, err
	}
	for _, name := range names {
		address = address.Child(name)
	}
	return s.placeIn(ctx, s.Tree, address)
}

// placeIn finds the place of an address in a tree, for a change there.
func (s *Server) placeIn(ctx context.Context, all *tree.Tree, address store.Address) (tree.Located, error) {
	if err := tree.CheckChange(ctx, address); err != nil {
		return tree.Located{}, s.explain(ctx, address, err)
	}
	located, err := all.Locate(ctx, address)
	if err != nil {
		return tree.Located{}, err
	}
	if located.Store.Traits().ReadOnly {
		return tree.Located{}, store.Errorf(store.ErrRefused,
			"/%s is linked to be read only, and nothing can be changed there; link the place again under another name without --read-only to do so",
			located.Name)
	}
	return located, runner.CheckChange(address, located.Place)
}

// changed drops the kept listings of an account after a change by us.
func (s *Server) changed(located tree.Located) {
	s.Recent.Forget(located.Name)
	if s.Gateway != nil {
		s.Gateway.Recent.Forget(located.Name)
	}
	if s.Index != nil && len(located.Address.Steps) > 0 {
		s.Index.Touched(located.Address.Parent())
	}
}

func (s *Server) makeFolder(ctx context.Context, in *body[contract.NewFolder]) (*body[contract.Entry], error) {
	located, err := s.place(ctx, in.Body.Address, in.Body.Names...)
	if err != nil {
		return nil, err
	}
	defer s.changed(located)
	place := located.Place
	if err := located.Store.Traits().NameError(place.Folder.Path, place.Name); err != nil && !place.IsStart() {
		return nil, err
	}
	if err := store.Prepare(ctx, located.Store); err != nil {
		return nil, err
	}
	if in.Body.Parents {
		if err := files.MakeFolders(ctx, located.Store, place.Folder.Path); err != nil {
			return nil, err
		}
	} else if err := s.checkNewFolder(ctx, located); err != nil {
		return nil, err
	}
	entry, err := located.Store.MakeFolder(ctx, place)
	if err == nil {
		err = store.Sync(ctx, located.Store)
	}
	entry.Name = located.Address.Name()
	return &body[contract.Entry]{entryOf(tree.Node{Address: located.Address, Entry: entry})}, err
}

func (s *Server) checkNewFolder(ctx context.Context, located tree.Located) error {
	_, err := located.Store.Stat(ctx, located.Place)
	switch {
	case err == nil:
		return store.Errorf(store.ErrExists, "%s already exists; choose another name", located.Address)
	case store.KindOf(err) != store.ErrNotFound:
		return err
	}
	if parent := located.Address.Parent(); located.Store.Traits().Folders == store.FoldersReal {
		if _, err := located.Store.Stat(ctx, located.Place.Folder.Path.Ref()); store.KindOf(err) == store.ErrNotFound {
			return store.Errorf(store.ErrNotFound, "the folder %s is not there; make it first, or all at once with --parents", parent)
		}
	}
	return nil
}

func (s *Server) planRemoval(ctx context.Context, in *body[contract.Addresses]) (*body[contract.RemovalPlan], error) {
	places, err := s.removals(ctx, in.Body.Addresses)
	if err != nil {
		return nil, err
	}
	plan := contract.RemovalPlan{Trash: true}
	count, err := s.survey(ctx, places)
	for _, located := range places {
		plan.Trash = plan.Trash && located.Store.Traits().Trash
	}
	plan.Quantity = contract.Quantity(count)
	return &body[contract.RemovalPlan]{plan}, err
}

// removals returns the places of addresses to remove, none of them inside
// another.
func (s *Server) removals(ctx context.Context, addresses []string) ([]tree.Located, error) {
	var places []tree.Located
	for _, text := range addresses {
		located, err := s.place(ctx, text)
		if err != nil {
			return nil, err
		}
		if located.Place.IsStart() {
			return nil, messages.With(store.Errorf(store.ErrRefused, "%s is a whole account; name what is in it, or unlink it",
				located.Address), "heron account unlink "+located.Name)
		}
		if err := s.Runner.CheckLoss(ctx, located.Address); err != nil {
			return nil, err
		}
		for _, other := range places {
			if other.Address.Contains(located.Address) || located.Address.Contains(other.Address) {
				return nil, store.Errorf(store.ErrRefused, "%s and %s lie within each other; name the outer one alone", other.Address, located.Address)
			}
		}
		places = append(places, located)
	}
	return places, nil
}

func (s *Server) survey(ctx context.Context, places []tree.Located) (files.Count, error) {
	var count files.Count
	for _, located := range places {
		one, err := files.Survey(ctx, located.Store, located.Place)
		if err != nil {
			return count, s.explain(ctx, located.Address, err)
		}
		count.Add(one)
	}
	return count, nil
}

func (s *Server) remove(ctx context.Context, in *body[contract.Removal]) (*body[contract.Removed], error) {
	places, err := s.removals(ctx, in.Body.Addresses)
	if err != nil {
		return nil, err
	}
	// All is listed to its end before anything is removed.
	count, err := s.survey(ctx, places)
	if err != nil {
		return nil, err
	}
	if who := person(ctx); count.Files > freshDeletions && !who.Fresh(s.Access.Now()) {
		return nil, s.refusal(fresh(anybody), who)
	}
	agreed := files.Count(in.Body.Agreed)
	if count.Files > agreed.Files || count.Folders > agreed.Folders || count.Others > agreed.Others || count.Bytes > agreed.Bytes {
		return nil, store.Errorf(store.ErrChanged, "there are more files now than you agreed to delete, and nothing was deleted; look again")
	}
	result := contract.Removed{Failed: []contract.Blocker{}}
	for _, located := range places {
		removed, err := files.Remove(ctx, located.Store, located.Place, agreed)
		err = errors.Join(err, store.Sync(context.WithoutCancel(ctx), located.Store))
		s.changed(located)
		addRemoved(&result, located, removed)
		if err != nil {
			return nil, store.Errorf(cmpKind(err), "%d entries were removed, and then %w; look again at what is left", removed.Files+removed.Folders+
				removed.Others, err)
		}
	}
	return &body[contract.Removed]{result}, nil
}

// freshDeletions is how many files may be deleted without a fresh sign-in.
const freshDeletions = 1000

func cmpKind(err error) error {
	if kind := store.KindOf(err); kind != nil {
		return kind
	}
	return store.ErrChanged
}

func addRemoved(result *contract.Removed, located tree.Located, removed files.Removed) {
	result.Files += removed.Files
	result.Folders += removed.Folders
	result.Others += removed.Others
	result.Bytes += removed.Bytes
	result.Trash += removed.Trash
	result.Kept += removed.Kept
	for _, failure := range removed.Failures {
		address := store.Address{Account: located.Name}
		for _, name := range append(failure.Place.Folder.Path.Names(), failure.Place.Name) {
			address = address.Child(name)
		}
		remedy, _ := messages.RemedyOf(failure.Cause, messages.Subject{})
		result.Failed = append(result.Failed, contract.Blocker{
			Address: address.String(), Cause: string(failure.Cause), Why: failure.Err.Error(), Remedy: remedy,
		})
	}
}

func (s *Server) move(ctx context.Context, in *body[contract.Move]) (*body[contract.Moved], error) {
	steps, err := s.planMove(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	moved := contract.Moved{Moved: []contract.Route{}}
	var others []contract.Route
	for _, one := range steps {
		route := contract.Route{From: one.From.Address.String(), To: one.To.Address.String()}
		if !one.Inside() {
			others = append(others, route)
			continue
		}
		_, err := store.Move(ctx, one.From.Store, one.From.Place, one.From.Entry.Revision, one.To.Place)
		s.changed(one.From.Located)
		s.changed(one.To)
		if store.KindOf(err) == store.ErrUnsupported {
			others = append(others, route)
			continue
		}
		if err != nil {
			return nil, err
		}
		moved.Moved = append(moved.Moved, route)
	}
	if len(others) > 0 {
		started, err := s.Runner.Move(ctx, others)
		if err != nil {
			return nil, err
		}
		moved.Run = started.Run
	}
	return &body[contract.Moved]{moved}, nil
}

// planMove looks at everything before anything is moved.
func (s *Server) planMove(ctx context.Context, request contract.Move) ([]files.Step, error) {
	if request.As != "" {
		as, err := store.ParseAddress(request.As)
		if err != nil {
			return nil, err
		}
		request.To, request.Name = as.Parent().String(), as.Name()
	}
	folder, err := s.find(ctx, request.To)
	if err != nil {
		return nil, err
	}
	var from []files.Entry
	for _, text := range request.From {
		one, err := s.find(ctx, text)
		if err != nil {
			return nil, err
		}
		if err := s.Runner.CheckLoss(ctx, one.Address); err != nil {
			return nil, err
		}
		from = append(from, one)
	}
	return files.PlanMove(ctx, from, folder, request.Name)
}

// find looks up the entry at an address.
func (s *Server) find(ctx context.Context, text string) (one files.Entry, err error) {
	if one.Located, err = s.place(ctx, text); err != nil {
		return one, err
	}
	if one.Entry, err = one.Store.Stat(ctx, one.Place); err != nil {
		return one, s.explain(ctx, one.Address, err)
	}
	return one, nil
}
