package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/speed"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/accounts"
	"deftheron/service/discovery"
	"deftheron/service/messages"
	"deftheron/service/records"
)

func (s *Server) registerLinks(api huma.API) {
	add(api, http.MethodPatch, "/accounts/{name}", "edit-account", "Change the settings of an account", http.StatusOK, s.editAccount)
	add(api, http.MethodPost, "/accounts/{name}/suspend", "suspend-account", "Suspend an account", http.StatusNoContent, s.suspendAccount)
	add(api, http.MethodPost, "/accounts/{name}/resume", "resume-account", "Resume an account", http.StatusNoContent, s.resumeAccount)
	add(api, http.MethodGet, "/link-events", "list-link-events", "List the events of accounts, oldest first", http.StatusOK, s.linkEvents)
	add(api, http.MethodPost, "/resources", "list-resources", "List what a sign-in reaches", http.StatusOK, s.listResources)
	add(api, http.MethodGet, "/accounts/{name}/resources", "list-account-resources", "List what the sign-in of an account reaches",
		http.StatusOK,
		s.accountResources)
	add(api, http.MethodPost, "/accounts/{name}/resources", "link-resource", "Link more with the sign-in of an account", http.StatusCreated,
		s.linkResource)
	add(api, http.MethodPost, "/identities", "probe-identity", "Show the host key or certificate of a server", http.StatusOK, s.probeIdentity)
	add(api, http.MethodGet, "/discovered", "list-nearby", "Discover servers on the local network", http.StatusOK, s.discover)
	add(api, http.MethodPost, "/accounts/{name}/speeds", "measure-speed", "Measure the speed of an account", http.StatusCreated,
		s.measureSpeed)
	add(api, http.MethodGet, "/accounts/{name}/speeds", "list-speeds", "List the speed results of an account", http.StatusOK, s.listSpeeds)
}

type editInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.AccountEdit
}

func (s *Server) editAccount(ctx context.Context, in *editInput) (*body[contract.Account], error) {
	edit := in.Body
	changes := len(edit.Options) > 0 || edit.Start != nil || edit.ReadOnly != nil || edit.Secret != "" || len(edit.Files) > 0
	if edit.Name != "" && edit.Name != in.Name { // refused before anything is changed
		if err := store.CheckAccountName(edit.Name); err != nil {
			return nil, err
		}
		if _, err := s.DB.Account(ctx, edit.Name); err == nil {
			return nil, accounts.Taken(edit.Name)
		}
	}
	var shown contract.Account
	if changes {
		row, err := s.DB.Account(ctx, in.Name)
		if err == nil {
			err = s.checkOwners(ctx, row.Provider)
		}
		if err != nil {
			return nil, err
		}
	}
	if changes {
		row, found, err := s.Accounts.Edit(ctx, in.Name, accounts.Edit{
			Options: edit.Options, Start: edit.Start, ReadOnly: edit.ReadOnly, Secret: edit.Secret, Files: edit.Files, Anyway: edit.Anyway,
		})
		if err != nil {
			return nil, otherPlace(err)
		}
		shown = s.accountOf(ctx, row, &found)
	}
	if err := s.Previews.Forget(in.Name); err != nil { // it may be another place, or have another name
		return nil, err
	}
	if edit.Name != "" && edit.Name != in.Name {
		row, err := s.Accounts.Rename(ctx, in.Name, edit.Name)
		if err != nil {
			return nil, err
		}
		s.Recent.Forget(in.Name)
		renamed := s.accountOf(ctx, row, nil)
		renamed.Found = shown.Found
		return &body[contract.Account]{renamed}, nil
	}
	if !changes {
		return s.showAccount(ctx, &nameInput{in.Name})
	}
	return &body[contract.Account]{shown}, nil
}

// otherPlace gives the question whether another place is meant its cause.
func otherPlace(err error) error {
	if !errors.Is(err, accounts.ErrOtherPlace) {
		return err
	}
	asked := problem(err)
	asked.Status, asked.Title, asked.Cause = http.StatusConflict, http.StatusText(http.StatusConflict), contract.CauseOtherPlace
	return asked
}

func (s *Server) suspendAccount(ctx context.Context, in *nameInput) (*none, error) {
	return &none{}, s.Accounts.Suspend(ctx, in.Name)
}

func (s *Server) resumeAccount(ctx context.Context, in *nameInput) (*none, error) {
	return &none{}, s.Accounts.Resume(ctx, in.Name)
}

type unlinkInput struct {
	Name   string `path:"name" doc:"The account's name."`
	Anyway bool   `query:"anyway" doc:"Though jobs use it."`
}

func (s *Server) unlinkAccount(ctx context.Context, in *unlinkInput) (*none, error) {
	if _, err := s.Accounts.ID(ctx, in.Name); err != nil {
		return nil, err
	}
	runs, err := s.Runner.UsedBy(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if len(runs) > 0 {
		return nil, messages.With(store.Errorf(store.ErrRefused,
			"the account %s is in use by the run %s; wait for it to end, or cancel it", in.Name, strings.Join(runs, ", ")),
			"heron run cancel "+runs[0])
	}
	jobs, err := s.DB.JobsUsing(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if len(jobs) > 0 && !in.Anyway {
		return nil, &contract.Problem{
			Status: http.StatusConflict, Title: http.StatusText(http.StatusConflict), Cause: contract.CauseInUse,
			Detail: "The account " + in.Name + " is used by " + some(jobs) + ", which cannot run without it.",
			Remedy: "Remove those first, or suspend the account; or unlink it anyway.",
		}
	}
	s.Recent.Forget(in.Name)
	if err := s.Previews.Forget(in.Name); err != nil {
		return nil, err
	}
	return &none{}, s.Accounts.Remove(ctx, in.Name)
}

func some(jobs []string) string {
	if len(jobs) == 1 {
		return "the job " + jobs[0]
	}
	return "the jobs " + strings.Join(jobs, ", ")
}

type usageInput struct {
	Name string `path:"name" doc:"The account's name."`
	Days int    `query:"days" default:"7" minimum:"1" maximum:"60" doc:"How many days back."`
}

func (s *Server) accountUsage(ctx context.Context, in *usageInput) (*body[contract.AccountUsage], error) {
	usage, err := s.Accounts.Usage(ctx, in.Name, time.Now().AddDate(0, 0, -in.Days))
	n := len(usage.Used)
	shown := contract.AccountUsage{
		Every: int64(records.UsageEvery / time.Second), At: make([]int64, n), Requests: make([]int64, n), SlowDowns: make([]int64, n),
		Up: make([]int64, n), Down: make([]int64, n), Space: make([]contract.SpaceSample, len(usage.Space)),
	}
	for i, one := range usage.Used {
		shown.At[i], shown.Requests[i], shown.SlowDowns[i] = one.At.Unix(), one.Requests, one.Slowed
		shown.Up[i], shown.Down[i] = one.Up, one.Down
	}
	for i, sample := range usage.Space {
		shown.Space[i] = contract.SpaceSample{At: sample.At.Unix(), Used: sample.Used, Total: sample.Total}
	}
	if !usage.Full.IsZero() {
		shown.Full = &usage.Full
	}
	return &body[contract.AccountUsage]{shown}, err
}

type historyInput struct {
	Account string `query:"account" doc:"The name that the account has, or had last; all links unless given."`
}

func (s *Server) linkEvents(ctx context.Context, in *historyInput) (*body[[]contract.LinkEvent], error) {
	events, err := s.Accounts.History(ctx, in.Account)
	if err != nil {
		return nil, err
	}
	seen, err := s.seenIDs(ctx)
	shown := []contract.LinkEvent{}
	for _, event := range events {
		if seen != nil && !seen[event.Account] {
			continue
		}
		if event.Settings.Options == nil {
			event.Settings.Options = map[string]string{}
		}
		shown = append(shown, contract.LinkEvent{
			Account: event.Name, Link: event.Account, At: event.At, What: event.What, By: event.By, Why: event.Why,
			Settings: contract.LinkSettings(event.Settings),
		})
	}
	return &body[[]contract.LinkEvent]{shown}, err
}

// seenIDs are the ids of the accounts that who asks sees whole; nil for all.
func (s *Server) seenIDs(ctx context.Context) (map[string]bool, error) {
	if tree.ScopeOf(ctx) == nil {
		return nil, nil
	}
	rows, err := s.Accounts.Whole(ctx)
	seen := map[string]bool{}
	for _, row := range rows {
		seen[row.ID] = true
	}
	return seen, err
}

func resourcesOf(behind accounts.Resources) *body[contract.Resources] {
	shown := contract.Resources{Option: behind.Option, Resources: []contract.Resource{}}
	for _, place := range behind.Resources {
		shown.Resources = append(shown.Resources,
			contract.Resource{Value: place.Value, Title: place.Title, Note: place.Note, Linked: place.Linked})
	}
	return &body[contract.Resources]{shown}
}

func (s *Server) listResources(ctx context.Context, in *body[contract.Link]) (*body[contract.Resources], error) {
	behind, err := s.Accounts.ListResources(ctx, s.linkOf(ctx, in.Body))
	return resourcesOf(behind), err
}

func (s *Server) accountResources(ctx context.Context, in *nameInput) (*body[contract.Resources], error) {
	behind, err := s.Accounts.AccountResources(ctx, in.Name)
	return resourcesOf(behind), err
}

type takingInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.Taking
}

func (s *Server) linkResource(ctx context.Context, in *takingInput) (*body[contract.Account], error) {
	row, found, err := s.Accounts.LinkResource(ctx, in.Name, accounts.Place{Value: in.Body.Value, Name: in.Body.Name})
	return &body[contract.Account]{s.accountOf(ctx, row, &found)}, err
}

func (s *Server) probeIdentity(ctx context.Context, in *body[contract.Link]) (*body[contract.Identity], error) {
	introduced, _, err := s.Accounts.ProbeIdentity(ctx, s.linkOf(ctx, in.Body))
	return &body[contract.Identity]{contract.Identity(introduced)}, err
}

type discoverInput struct {
	Seconds float64 `query:"seconds" default:"3" minimum:"0.1" maximum:"15" doc:"For how long to look."`
}

func (s *Server) discover(ctx context.Context, in *discoverInput) (*body[[]contract.DiscoveredServer], error) {
	found, err := discovery.Find(ctx, time.Duration(in.Seconds*float64(time.Second)))
	shown := []contract.DiscoveredServer{}
	for _, server := range found {
		shown = append(shown, contract.DiscoveredServer(server))
	}
	return &body[[]contract.DiscoveredServer]{shown}, err
}

type speedInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.SpeedCheck
}

func (s *Server) measureSpeed(ctx context.Context, in *speedInput) (*body[contract.Speed], error) {
	done, err := s.Accounts.MeasureSpeed(ctx, in.Name, speed.Options{Size: in.Body.Size, Number: in.Body.Number, Lanes: in.Body.Lanes})
	return &body[contract.Speed]{speedOf(done)}, err
}

func (s *Server) listSpeeds(ctx context.Context, in *nameInput) (*body[[]contract.Speed], error) {
	const most = 20
	done, err := s.Accounts.Speeds(ctx, in.Name, most)
	shown := []contract.Speed{}
	for _, one := range done {
		shown = append(shown, speedOf(one))
	}
	return &body[[]contract.Speed]{shown}, err
}

func speedOf(s accounts.Speed) contract.Speed {
	r := s.Result
	return contract.Speed{
		Account: s.Account, At: s.At, Size: r.Size, Number: r.Number, Lanes: r.Lanes,
		Write: contract.SpeedPhase(r.Write), Read: contract.SpeedPhase(r.Read), Remove: contract.SpeedPhase(r.Remove),
	}
}

// warningsOf are the warnings of an account.
func (s *Server) warningsOf(ctx context.Context, row records.Account) []contract.Warning {
	var shown []contract.Warning
	for _, warning := range s.Accounts.Warnings(ctx, row) {
		shown = append(shown, contract.Warning(warning))
	}
	return shown
}
