package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
)

func (s *Server) registerArrivals(api huma.API) {
	add(api, http.MethodGet, "/jobs/{name}/arrivals", "list-arrivals", "List the latest arrivals of a job", http.StatusOK, s.listArrivals)
	add(api, http.MethodPost, "/jobs/{name}/arrivals", "announce-arrival", "Announce a complete arrival", http.StatusAccepted,
		s.announceArrival)
	add(api, http.MethodPost, "/jobs/{name}/tries", "try-arrival", "Test the arrival rule of a job", http.StatusOK, s.tryArrival)
	add(api, http.MethodPost, "/jobs/tries", "try-new-arrival", "Test the arrival rule of a new job", http.StatusOK, s.tryNewArrival)
}

func (s *Server) listArrivals(ctx context.Context, in *JobInput) (*body[contract.ArrivalList], error) {
	arrivals, err := s.Runner.Incoming(ctx, in.Name)
	return &body[contract.ArrivalList]{contract.ArrivalList{Arrivals: arrivals}}, err
}

type announceInput struct {
	Name string `path:"name" doc:"The job's name."`
	Body contract.Arrived
}

func (s *Server) announceArrival(ctx context.Context, in *announceInput) (*body[contract.Arrival], error) {
	arrival, err := s.Runner.Announce(ctx, in.Name, in.Body.Address)
	return &body[contract.Arrival]{arrival}, err
}

type tryInput struct {
	Name string `path:"name" doc:"The job's name."`
	Body contract.TryingArrival
}

func (s *Server) tryArrival(ctx context.Context, in *tryInput) (*body[contract.TriedArrival], error) {
	in.Body.Job = nil
	tried, err := s.Runner.TryArrival(ctx, in.Name, in.Body)
	return &body[contract.TriedArrival]{tried}, err
}

func (s *Server) tryNewArrival(ctx context.Context, in *body[contract.TryingArrival]) (*body[contract.TriedArrival], error) {
	if in.Body.Job == nil {
		return nil, &contract.Problem{Status: http.StatusUnprocessableEntity, Title: "Unprocessable Entity",
			Detail: "There is no job to be tried.", Remedy: "Give one as job."}
	}
	tried, err := s.Runner.TryArrival(ctx, "", in.Body)
	return &body[contract.TriedArrival]{tried}, err
}
