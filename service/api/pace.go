package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/service/runner"
)

func (s *Server) registerPace(api huma.API) {
	add(api, http.MethodPut, "/runs/{id}/pace", "set-run-pace", "Change the limits of a run, while it moves", http.StatusNoContent, s.setRunPace)
	add(api, http.MethodPut, "/runs/{id}/priority", "set-run-priority", "Change how a run stands to others, while it moves or waits", http.StatusNoContent, s.setRunPriority)
	add(api, http.MethodGet, "/runs-at-once", "show-runs-at-once", "How many runs move at once", http.StatusOK, s.showAtOnce)
	add(api, http.MethodPut, "/runs-at-once", "set-runs-at-once", "Change how many runs move at once", http.StatusNoContent, s.setAtOnce)
	add(api, http.MethodPost, "/runs/{id}/release", "release-run", "Let a run go on that is held for a person", http.StatusNoContent, s.releaseRun)
	add(api, http.MethodGet, "/pace", "show-pace", "The limits on rates, overall and by account", http.StatusOK, s.showPace)
	add(api, http.MethodPut, "/pace", "set-pace", "Change the limits for everything", http.StatusNoContent, s.setPace)
	add(api, http.MethodPut, "/accounts/{name}/pace", "set-account-pace", "Change the limits of an account", http.StatusNoContent, s.setAccountPace)
}

type runPaceInput struct {
	RunInput
	Body contract.Pace
}

func (s *Server) setRunPace(ctx context.Context, in *runPaceInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.SetPace(ctx, in.ID, in.Body))
}

type runPriorityInput struct {
	RunInput
	Body contract.Priority
}

func (s *Server) setRunPriority(ctx context.Context, in *runPriorityInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.SetPriority(ctx, in.ID, in.Body.Priority))
}

func (s *Server) showAtOnce(ctx context.Context, _ *none) (*body[contract.AtOnce], error) {
	runs, err := s.Runner.AtOnce(ctx)
	return &body[contract.AtOnce]{contract.AtOnce{Runs: runs}}, err
}

func (s *Server) setAtOnce(ctx context.Context, in *body[contract.AtOnce]) (*none, error) {
	return &none{}, s.Runner.SetAtOnce(ctx, in.Body.Runs)
}

type releaseInput struct {
	RunInput
	Body contract.Release
}

func (s *Server) releaseRun(ctx context.Context, in *releaseInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.Release(ctx, in.ID, in.Body))
}

func (s *Server) showPace(ctx context.Context, _ *none) (*body[contract.Paces], error) {
	kept, err := s.Accounts.Paces(ctx)
	shown := contract.Paces{Overall: runner.ShownPace(kept.Overall), Accounts: map[string]contract.Pace{}}
	for name, rule := range kept.Accounts {
		shown.Accounts[name] = runner.ShownPace(rule)
	}
	return &body[contract.Paces]{shown}, err
}

func (s *Server) setPace(ctx context.Context, in *struct{ Body contract.Pace }) (*none, error) {
	return s.setPaceOf(ctx, "", in.Body)
}

type accountPaceInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.Pace
}

func (s *Server) setAccountPace(ctx context.Context, in *accountPaceInput) (*none, error) {
	return s.setPaceOf(ctx, in.Name, in.Body)
}

func (s *Server) setPaceOf(ctx context.Context, name string, given contract.Pace) (*none, error) {
	rule, err := runner.PaceOf(given)
	if err != nil {
		return nil, runner.NewInputError(err)
	}
	return &none{}, s.Accounts.SetPace(ctx, name, rule)
}
