package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/runner"
)

func (s *Server) registerBandwidth(api huma.API) {
	add(api, http.MethodPut, "/runs/{id}/bandwidth", "set-run-bandwidth", "Change the bandwidth limits of a run", http.StatusNoContent,
		s.setRunBandwidth)
	add(api, http.MethodPut, "/runs/{id}/priority", "set-run-priority", "Change the priority of a run", http.StatusNoContent, s.setRunPriority)
	add(api, http.MethodGet, "/runs-at-once", "show-runs-at-once", "Show how many runs go at once", http.StatusOK, s.showAtOnce)
	add(api, http.MethodPut, "/runs-at-once", "set-runs-at-once", "Change how many runs go at once", http.StatusNoContent, s.setAtOnce)
	add(api, http.MethodPost, "/runs/{id}/approve", "release-run", "Approve a held run", http.StatusNoContent, s.approveRun)
	add(api, http.MethodGet, "/bandwidth", "show-bandwidth", "Show the bandwidth limits", http.StatusOK, s.showBandwidth)
	add(api, http.MethodPut, "/bandwidth", "set-bandwidth", "Change the overall bandwidth limits", http.StatusNoContent, s.setBandwidth)
	add(api, http.MethodPut, "/accounts/{name}/bandwidth", "set-account-bandwidth", "Change the bandwidth limits of an account",
		http.StatusNoContent, s.setAccountBandwidth)
	add(api, http.MethodPut, "/sites/{name}/bandwidth", "set-site-bandwidth", "Change the bandwidth limits of a site",
		http.StatusNoContent, s.setSiteBandwidth)
}

type runBandwidthInput struct {
	RunInput
	Body contract.Bandwidth
}

func (s *Server) setRunBandwidth(ctx context.Context, in *runBandwidthInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.SetBandwidth(ctx, in.ID, in.Body))
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

type approveInput struct {
	RunInput
	Body contract.Approval
}

func (s *Server) approveRun(ctx context.Context, in *approveInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.Approve(ctx, in.ID, in.Body))
}

func (s *Server) showBandwidth(ctx context.Context, _ *none) (*body[contract.Bandwidths], error) {
	kept, err := s.Accounts.Bandwidths(ctx)
	shown := contract.Bandwidths{Overall: job.BandwidthOf(kept.Overall), Accounts: map[string]contract.Bandwidth{},
		Sites: map[string]contract.Bandwidth{}}
	for name, rule := range kept.Sites {
		shown.Sites[name] = job.BandwidthOf(rule)
	}
	for name, rule := range kept.Accounts {
		if tree.Sees(ctx, store.Address{Account: name}) != tree.Seen {
			continue
		}
		shown.Accounts[name] = job.BandwidthOf(rule)
	}
	return &body[contract.Bandwidths]{shown}, err
}

func (s *Server) setBandwidth(ctx context.Context, in *struct{ Body contract.Bandwidth }) (*none, error) {
	return s.setBandwidthOf(ctx, "", in.Body)
}

type accountBandwidthInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.Bandwidth
}

func (s *Server) setAccountBandwidth(ctx context.Context, in *accountBandwidthInput) (*none, error) {
	return s.setBandwidthOf(ctx, in.Name, in.Body)
}

type siteBandwidthInput struct {
	Name string `path:"name" doc:"The site's name."`
	Body contract.Bandwidth
}

func (s *Server) setSiteBandwidth(ctx context.Context, in *siteBandwidthInput) (*none, error) {
	rule, err := in.Body.Read()
	if err != nil {
		return nil, runner.NewInputError(err)
	}
	return &none{}, s.Accounts.SetSiteBandwidth(ctx, in.Name, rule)
}

func (s *Server) setBandwidthOf(ctx context.Context, name string, given contract.Bandwidth) (*none, error) {
	rule, err := given.Read()
	if err != nil {
		return nil, runner.NewInputError(err)
	}
	return &none{}, s.Accounts.SetBandwidth(ctx, name, rule)
}
