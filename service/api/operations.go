package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/messages"
	"deftheron/service/preview"
	"deftheron/service/records"
)

// body is an answer of one value.
type body[T any] struct{ Body T }

type none struct{}

// add registers an operation whose errors are put into words in one place.
func add[In, Out any](api huma.API, method, path, id, summary string, status int, handle func(context.Context, *In) (*Out, error),
	options ...func(*huma.Operation)) {
	operation := huma.Operation{
		OperationID: id, Method: method, Path: contract.Root + path, Summary: summary, DefaultStatus: status,
	}
	for _, set := range options {
		set(&operation)
	}
	huma.Register(api, operation, func(ctx context.Context, in *In) (*Out, error) {
		noteSubject(ctx, in)
		who := person(ctx)
		out, err := handle(accounts.ByUser(accounts.By(ctx, byOf(who)), who.User), in)
		if err != nil {
			return nil, problem(err)
		}
		return out, nil
	})
}

// small bounds what may be sent by those who are not signed in.
func small(operation *huma.Operation) { operation.MaxBodyBytes = 1 << 10 }

// byOf is who makes a request, in words.
func byOf(who access.Person) string {
	name := who.Name
	if who.User == records.OwnerID {
		name = "the owner"
	}
	switch who.Kind {
	case "":
		return ""
	case access.KindSession:
		return name + ", in the console"
	case access.KindToken:
		return name + ", by the token " + who.Token
	}
	return name + ", by a token"
}

func (s *Server) register(api huma.API) {
	add(api, http.MethodGet, "/providers", "list-providers", "List providers", http.StatusOK, s.providers)
	add(api, http.MethodGet, "/accounts", "list-accounts", "The linked accounts", http.StatusOK, s.listAccounts)
	add(api, http.MethodPost, "/accounts", "link-account", "Link an account", http.StatusCreated, s.linkAccount)
	add(api, http.MethodGet, "/accounts/{name}", "show-account", "One account", http.StatusOK, s.showAccount)
	add(api, http.MethodPost, "/accounts/{name}/check", "check-account", "Check an account", http.StatusOK, s.checkAccount)
	add(api, http.MethodGet, "/accounts/{name}/usage", "show-account-usage", "What an account was used for, over time", http.StatusOK,
		s.accountUsage)
	add(api, http.MethodDelete, "/accounts/{name}", "unlink-account", "Unlink an account", http.StatusNoContent, s.unlinkAccount)
	s.registerSessions(api)
	s.registerWays(api)
	s.registerPeople(api)
	s.registerAudit(api)
	s.registerConsents(api)
	s.registerLinks(api)
	s.registerSealing(api)
	s.registerBandwidth(api)
	s.registerSchedules(api)
	s.registerJobs(api)
	s.registerArrivals(api)
	s.registerPeopleTables(api)
	s.registerSearch(api)
	s.registerShareLinks(api)
	s.registerWorkers(api)
	s.registerAnnotations(api)
	s.registerBackups(api)
	add(api, http.MethodGet, "/diagnosis", "diagnose", "Look at the service and its machine, and say what to do", http.StatusOK, s.diagnose)
	s.registerHistory(api)
	s.registerRehearsals(api)
	s.registerNotifications(api)
	add(api, http.MethodGet, "/tree", "list-folder", "List a folder, page by page", http.StatusOK, s.listFolder)
	add(api, http.MethodGet, "/entry", "show-entry", "One entry of the tree", http.StatusOK, s.showEntry)
	add(api, http.MethodPost, "/folders", "make-folder", "Make a folder", http.StatusCreated, s.makeFolder)
	add(api, http.MethodPost, "/moves", "move", "Move or rename entries", http.StatusOK, s.move)
	add(api, http.MethodPost, "/removals/plans", "plan-removal", "Count what a deletion would delete", http.StatusOK, s.planRemoval)
	add(api, http.MethodPost, "/removals", "remove", "Delete the counted entries", http.StatusOK, s.remove)
	add(api, http.MethodGet, "/space", "space", "Show the space of all accounts", http.StatusOK, s.space)
	add(api, http.MethodGet, "/causes", "list-causes", "List causes and their remedies", http.StatusOK, s.listCauses)
	add(api, http.MethodPost, "/plans", "plan-copy", "What a copy would do", http.StatusOK, s.planCopy)
	add(api, http.MethodPost, "/copies", "start-copy", "Start a copy", http.StatusCreated, s.startCopy)
	add(api, http.MethodGet, "/runs", "list-runs", "Runs, newest first", http.StatusOK, s.listRuns)
	add(api, http.MethodGet, "/runs/{id}", "show-run", "One run", http.StatusOK, s.showRun)
	add(api, http.MethodGet, "/runs/{id}/items", "list-items", "A page of a run's items", http.StatusOK, s.listItems)
	add(api, http.MethodPut, "/runs/{id}/decisions", "decide-items", "Decide about the conflicts of some items", http.StatusOK, s.decideItems)
	add(api, http.MethodGet, "/runs/{id}/causes", "count-causes", "Count the items of a run by cause", http.StatusOK, s.causes)
	add(api, http.MethodGet, "/runs/{id}/series", "show-run-series", "The progress of a run over its whole life", http.StatusOK, s.runSeries)
	add(api, http.MethodGet, "/runs/{id}/events", "list-run-events", "What happened to a run", http.StatusOK, s.runEvents)
	add(api, http.MethodGet, "/flows", "list-flows", "What jobs transferred between accounts, by day", http.StatusOK, s.flows)
	add(api, http.MethodPost, "/runs/{id}/cancel", "cancel-run", "Cancel a run", http.StatusNoContent, s.cancelRun)
	add(api, http.MethodPost, "/runs/{id}/pause", "pause-run", "Pause a run", http.StatusNoContent, s.pauseRun)
	add(api, http.MethodPost, "/runs/{id}/resume", "resume-run", "Resume a paused run", http.StatusNoContent, s.resumeRun)
	add(api, http.MethodPost, "/runs/{id}/retry", "retry-run", "Try again what failed", http.StatusOK, s.retryRun)
	add(api, http.MethodPost, "/papers/checks", "check-paper", "Check whether a report or certificate is unaltered", http.StatusOK,
		s.checkPaper)
	add(api, http.MethodGet, "/rates", "rates", "Show the transfer rate of the last ten minutes", http.StatusOK, s.rates)
}

type cookieOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *Server) providers(ctx context.Context, _ *none) (*body[[]contract.Provider], error) {
	providers := []contract.Provider{}
	for _, provider := range s.Accounts.Providers() {
		providers = append(providers, s.providerOf(ctx, provider))
	}
	return &body[[]contract.Provider]{providers}, nil
}

func (s *Server) accountOf(ctx context.Context, row records.Account, found *accounts.Found) contract.Account {
	state := s.Accounts.StateOf(row)
	if tree.Sees(ctx, store.Address{Account: row.Name}) != tree.Seen { // no more than that it is there
		return contract.Account{Name: row.Name, Address: "/" + row.Name, Provider: row.Provider, Options: map[string]string{},
			Linked: row.CreatedAt, ReadOnly: row.ReadOnly, State: string(state.Name)}
	}
	shown := contract.Account{
		Name: row.Name, Address: "/" + row.Name, Provider: row.Provider, Options: row.Options, Start: row.Start, Linked: row.CreatedAt,
		ReadOnly: row.ReadOnly, State: string(state.Name), Owner: row.Owner, Site: row.Site,
	}
	if state.Err != nil {
		why := problem(state.Err)
		shown.Why, shown.Remedy = why.Detail, why.Remedy
	}
	shown.Warnings = s.warningsOf(ctx, row)
	shown.Seen = row.SeenAt
	if !state.Seen.IsZero() {
		shown.Seen = &state.Seen
	}
	if found != nil {
		shown.Found = &contract.Found{Owner: found.Owner, Space: contract.Space(found.Space), Folders: append([]string{}, found.Folders...),
			Areas: found.Areas, New: found.New}
	}
	return shown
}

func (s *Server) listAccounts(ctx context.Context, _ *none) (*body[[]contract.Account], error) {
	rows, err := s.Accounts.Visible(ctx)
	shown := []contract.Account{}
	for _, row := range rows {
		shown = append(shown, s.accountOf(ctx, row, nil))
	}
	return &body[[]contract.Account]{shown}, err
}

func (s *Server) linkAccount(ctx context.Context, in *body[contract.Link]) (*body[contract.Account], error) {
	if err := s.checkOwners(ctx, in.Body.Provider); err != nil {
		return nil, err
	}
	if who := person(ctx); in.Body.Secret != "" && !who.Fresh(s.Access.Now()) {
		return nil, s.refusal(fresh(links), who)
	}
	row, found, err := s.Accounts.Add(ctx, s.linkOf(ctx, in.Body))
	return &body[contract.Account]{s.accountOf(ctx, row, &found)}, err
}

// checkOwners returns an error if the caller may not link and change accounts of a provider: only owners
// may for places of this machine.
func (s *Server) checkOwners(ctx context.Context, provider string) error {
	kind, err := s.Accounts.Provider(provider)
	if err != nil {
		return err
	}
	if _, local := kind.(store.Restrictable); local && person(ctx).Role != access.Owner {
		refused := s.refusal(permission{role: access.Owner}, person(ctx))
		refused.Detail = "Only an owner may link folders of the service's machine, or change what they are linked with."
		return refused
	}
	return nil
}

type nameInput struct {
	Name string `path:"name" doc:"The account's name."`
}

func (s *Server) showAccount(ctx context.Context, in *nameInput) (*body[contract.Account], error) {
	if _, err := s.Accounts.ID(ctx, in.Name); err != nil {
		return nil, err
	}
	row, err := s.DB.Account(ctx, in.Name)
	return &body[contract.Account]{s.accountOf(ctx, row, nil)}, err
}

func (s *Server) checkAccount(ctx context.Context, in *nameInput) (*body[contract.Account], error) {
	found, err := s.Accounts.Check(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	row, err := s.DB.Account(ctx, in.Name)
	return &body[contract.Account]{s.accountOf(ctx, row, &found)}, err
}

func (s *Server) space(ctx context.Context, _ *none) (*body[contract.Spaces], error) {
	each, together, err := s.Accounts.Spaces(ctx)
	if err != nil {
		return nil, err
	}
	spaces := contract.Spaces{Accounts: []contract.AccountSpace{}, Together: contract.Space(together)}
	for _, one := range each {
		shown := contract.AccountSpace{Account: one.Account, Space: contract.Space(one.Space)}
		if full, err := s.Accounts.FullAt(ctx, one.Account); err == nil && !full.IsZero() {
			shown.Full = &full
		}
		if one.Err != nil {
			why := problem(one.Err)
			shown.Why, shown.Remedy = why.Detail, why.Remedy
		}
		spaces.Accounts = append(spaces.Accounts, shown)
	}
	return &body[contract.Spaces]{spaces}, nil
}

func (s *Server) listCauses(context.Context, *none) (*body[[]contract.Cause], error) {
	causes := []contract.Cause{}
	for _, cause := range plan.Causes() {
		remedy, _ := messages.RemedyOf(cause, messages.Subject{})
		causes = append(causes, contract.Cause{Cause: string(cause), Title: messages.Of(cause).Title, Meaning: messages.Of(cause).Sentence,
			Remedy: remedy})
	}
	slices.SortFunc(causes, func(a, b contract.Cause) int { return cmp.Compare(a.Cause, b.Cause) })
	return &body[[]contract.Cause]{causes}, nil
}

type listInput struct {
	Address string `query:"address" required:"true" doc:"/ or /account/folder"`
	Limit   int    `query:"limit" default:"1000" minimum:"1" maximum:"1000"`
	Cursor  string `query:"cursor" doc:"next of the page before."`
	Fresh   bool   `query:"fresh" doc:"Ask the provider, however lately it was asked."`
	AtInput
}

// AtInput is the time whose state is shown.
type AtInput struct {
	At time.Time `query:"at" doc:"Show what was there at this time (RFC 3339), as far as history tells; now unless given."`
}

func (s *Server) listFolder(ctx context.Context, in *listInput) (*body[contract.Page], error) {
	address, err := store.ParseAddress(in.Address)
	if err != nil {
		return nil, err
	}
	page, nodes, err := s.pager.page(ctx, folderAt{address, in.At, person(ctx).TokenID}, in.Cursor, in.Limit, in.Fresh)
	switch {
	case err != nil:
	case address.IsRoot():
		err = s.markAccounts(ctx, page.Entries)
	case in.At.IsZero():
		err = s.annotate(ctx, address, nodes, page.Entries)
	}
	return &body[contract.Page]{page}, s.explain(ctx, address, err)
}

// markAccounts says of the accounts at the root how they are.
func (s *Server) markAccounts(ctx context.Context, entries []contract.Entry) error {
	rows, err := s.Accounts.Visible(ctx)
	for _, row := range rows {
		for i := range entries {
			if entries[i].Name == row.Name {
				entries[i].State, entries[i].ReadOnly = string(s.Accounts.StateOf(row).Name), row.ReadOnly
			}
		}
	}
	return err
}

type entryInput struct {
	Address string `query:"address" required:"true"`
	AtInput
}

func (s *Server) showEntry(ctx context.Context, in *entryInput) (*body[contract.Entry], error) {
	address, err := store.ParseAddress(in.Address)
	if err != nil {
		return nil, err
	}
	node, err := s.Runner.TreeAt(in.At).Stat(ctx, address)
	if err != nil {
		return nil, s.explain(ctx, address, err)
	}
	shown := []contract.Entry{entryOf(node)}
	if in.At.IsZero() && len(address.Steps) > 0 && tree.Sees(ctx, address) == tree.Seen {
		err = s.annotate(ctx, address.Parent(), []tree.Node{node}, shown)
	}
	return &body[contract.Entry]{shown[0]}, err
}

// explain adds to the error of a missing entry where to look for it.
func (s *Server) explain(ctx context.Context, address store.Address, err error) error {
	if store.KindOf(err) != store.ErrNotFound || address.IsRoot() {
		return err
	}
	if _, missing := s.Accounts.ID(ctx, address.Account); missing != nil {
		return missing
	}
	return messages.With(store.Errorf(store.ErrNotFound, "%s does not exist; check the names in %s", address, address.Parent()),
		"heron ls "+address.Parent().String())
}

func entryOf(node tree.Node) contract.Entry {
	entry := contract.Entry{
		Name: node.Name, Address: node.Address.String(), Kind: string(node.Kind), Size: node.Size, Revision: node.Revision, ID: node.ID,
	}
	if !node.Modified.IsZero() {
		modified := node.Modified
		entry.Modified = &modified
	}
	entry.Document = node.Document
	entry.Preview = node.Kind == store.KindFile && preview.Can(node.Name, node.Size)
	for _, format := range node.Exports {
		entry.Exports = append(entry.Exports, format.Name)
	}
	for _, hash := range node.Hashes {
		entry.Hashes = append(entry.Hashes, hash.String())
	}
	return entry
}

func (s *Server) planCopy(ctx context.Context, in *body[contract.Copy]) (*body[contract.Plan], error) {
	planned, err := s.Runner.Plan(ctx, in.Body)
	return &body[contract.Plan]{planned}, err
}

func (s *Server) startCopy(ctx context.Context, in *body[contract.Copy]) (*body[contract.Started], error) {
	started, err := s.Runner.Copy(ctx, in.Body)
	return &body[contract.Started]{started}, err
}
