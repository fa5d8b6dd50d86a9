package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/service/records"
)

func (s *Server) registerRehearsals(api huma.API) {
	add(api, http.MethodPost, "/jobs/{name}/rehearsals", "start-rehearsal", "Rehearse a restore of what a job keeps", http.StatusCreated,
		s.startRehearsal)
	add(api, http.MethodGet, "/jobs/{name}/rehearsals", "list-rehearsals", "The rehearsals of a job", http.StatusOK, s.listRehearsals)
	add(api, http.MethodGet, "/rehearsals/warnings", "list-rehearsal-warnings", "Jobs whose rehearsal failed or is overdue", http.StatusOK,
		s.rehearsalWarnings)
}

type rehearsalInput struct {
	JobInput
	Body contract.NewRehearsal
}

func (s *Server) startRehearsal(ctx context.Context, in *rehearsalInput) (*body[contract.Rehearsal], error) {
	one, err := s.Runner.Rehearse(ctx, in.Name, job.Rehearse{Files: in.Body.Files, All: in.Body.All}, in.Body.At, in.Body.Seed)
	if err != nil {
		return nil, err
	}
	return &body[contract.Rehearsal]{rehearsalOf(*one)}, nil
}

func (s *Server) listRehearsals(ctx context.Context, in *JobInput) (*body[contract.Rehearsals], error) {
	rows, due, err := s.Runner.Rehearsals(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	kept, err := s.Runner.Job(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	shown := contract.Rehearsals{Rehearsals: []contract.Rehearsal{}, Due: momentOf(due), Schedule: kept.Spec.History.Rehearse}
	for _, row := range rows {
		shown.Rehearsals = append(shown.Rehearsals, rehearsalOf(row))
	}
	return &body[contract.Rehearsals]{shown}, nil
}

func (s *Server) rehearsalWarnings(ctx context.Context, _ *none) (*body[[]contract.RehearsalWarning], error) {
	warnings, err := s.Runner.RehearsalWarnings(ctx)
	shown := []contract.RehearsalWarning{}
	for _, one := range warnings {
		if s.Runner.CheckJobSeen(ctx, one.Job, false) != nil {
			continue
		}
		warning := contract.RehearsalWarning{Job: one.Job, Due: momentOf(one.Due)}
		if one.Last != nil {
			last := rehearsalOf(*one.Last)
			warning.Last = &last
		}
		shown = append(shown, warning)
	}
	return &body[[]contract.RehearsalWarning]{shown}, err
}

func rehearsalOf(row records.Rehearsal) contract.Rehearsal {
	shown := contract.Rehearsal{Number: row.Number, Job: row.Job, State: "running", At: row.At, Started: row.StartedAt, Ended: row.EndedAt,
		Seed: row.Seed, Everything: row.Everything, Files: row.Files, Bytes: row.Bytes, OfFiles: row.OfFiles, OfBytes: row.OfBytes,
		BySize: row.BySize, Failed: row.Failed, Why: row.Why, Outcomes: []contract.RehearsedFile{}}
	switch {
	case row.EndedAt == nil:
	case row.Passed():
		shown.State = "passed"
	default:
		shown.State = "failed"
	}
	for _, one := range row.Outcomes {
		shown.Outcomes = append(shown.Outcomes, contract.RehearsedFile(one))
	}
	return shown
}
