package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/service/runner"
)

func (s *Server) registerJobs(api huma.API) {
	add(api, http.MethodGet, "/jobs", "list-jobs", "The jobs that are kept", http.StatusOK, s.listJobs)
	add(api, http.MethodPost, "/jobs", "create-job", "Make a job", http.StatusCreated, s.createJob)
	add(api, http.MethodPost, "/jobs/plans", "plan-new-job", "Plan a new job", http.StatusOK, s.planNewJob)
	add(api, http.MethodGet, "/jobs/{name}", "show-job", "One job", http.StatusOK, s.showJob)
	add(api, http.MethodPut, "/jobs/{name}", "change-job", "Change a job", http.StatusOK, s.changeJob)
	add(api, http.MethodDelete, "/jobs/{name}", "remove-job", "Delete a job", http.StatusNoContent, s.removeJob)
	add(api, http.MethodPost, "/jobs/{name}/start", "start-job", "Start a run of a job", http.StatusCreated, s.startJob)
	add(api, http.MethodPost, "/jobs/{name}/suspend", "suspend-job", "Suspend the schedule of a job", http.StatusNoContent, s.suspendJob)
	add(api, http.MethodPost, "/jobs/{name}/resume", "resume-job", "Resume the schedule of a job", http.StatusNoContent, s.resumeJob)
	add(api, http.MethodGet, "/jobs/{name}/plan", "plan-job", "Plan a run of a job", http.StatusOK, s.planJob)
	add(api, http.MethodGet, "/jobs/{name}/file", "show-job-file", "A job as a job file", http.StatusOK, s.showJobFile)
	add(api, http.MethodPost, "/job-files", "load-job-file", "Create or change the jobs of a job file", http.StatusOK, s.loadJobFile)
}

// JobInput names a job.
type JobInput struct {
	Name string `path:"name" doc:"The job's name."`
}

func (s *Server) listJobs(ctx context.Context, _ *none) (*body[contract.Jobs], error) {
	jobs, err := s.Runner.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	held, err := s.Runner.CountHeld(ctx)
	return &body[contract.Jobs]{contract.Jobs{Jobs: jobs, Held: held}}, err
}

func (s *Server) createJob(ctx context.Context, in *body[contract.NewJob]) (*body[contract.Job], error) {
	job, err := s.Runner.CreateJob(ctx, in.Body)
	return &body[contract.Job]{job}, err
}

func (s *Server) planNewJob(ctx context.Context, in *body[contract.JobSpec]) (*body[contract.Plan], error) {
	plan, err := s.Runner.PlanSpec(ctx, in.Body)
	return &body[contract.Plan]{plan}, err
}

func (s *Server) showJob(ctx context.Context, in *JobInput) (*body[contract.Job], error) {
	job, err := s.Runner.Job(ctx, in.Name)
	return &body[contract.Job]{job}, err
}

type changeJobInput struct {
	Name string `path:"name" doc:"The job's name."`
	// Match is an entity tag (RFC 9110, section 13.1.1).
	Match string `header:"If-Match" doc:"In quotes, when the job was changed last, as it was shown: if it was changed since, nothing is changed."`
	Body  contract.JobSpec
}

func (s *Server) changeJob(ctx context.Context, in *changeJobInput) (*body[contract.Job], error) {
	var seen time.Time
	if tag := strings.Trim(in.Match, `"`); tag != "" && tag != "*" {
		var err error
		if seen, err = time.Parse(time.RFC3339Nano, tag); err != nil {
			return nil, store.Errorf(store.ErrRefused, "If-Match %s is no time at which a job was changed", in.Match)
		}
	}
	job, err := s.Runner.ChangeJob(ctx, in.Name, in.Body, seen)
	if changed := (*runner.JobChangedError)(nil); errors.As(err, &changed) {
		err = &contract.Problem{Status: http.StatusPreconditionFailed, Title: http.StatusText(http.StatusPreconditionFailed),
			Cause: contract.CauseJobChanged, Detail: contract.Sentence(err.Error()),
			Remedy: "Compare your changes with the job as it is now, and save again."}
	}
	return &body[contract.Job]{job}, err
}

func (s *Server) removeJob(ctx context.Context, in *JobInput) (*none, error) {
	return &none{}, s.Runner.RemoveJob(ctx, in.Name)
}

type startJobInput struct {
	Name string `path:"name" doc:"The job's name."`
	Body *contract.Starting
}

func (s *Server) startJob(ctx context.Context, in *startJobInput) (*body[contract.Started], error) {
	step := ""
	if in.Body != nil {
		step = in.Body.Step
	}
	started, err := s.Runner.StartJob(ctx, in.Name, step)
	return &body[contract.Started]{started}, err
}

func (s *Server) suspendJob(ctx context.Context, in *JobInput) (*none, error) {
	return &none{}, s.Runner.SuspendJob(ctx, in.Name, true)
}

func (s *Server) resumeJob(ctx context.Context, in *JobInput) (*none, error) {
	return &none{}, s.Runner.SuspendJob(ctx, in.Name, false)
}

func (s *Server) planJob(ctx context.Context, in *JobInput) (*body[contract.Plan], error) {
	plan, err := s.Runner.PlanJob(ctx, in.Name)
	return &body[contract.Plan]{plan}, err
}

func (s *Server) showJobFile(ctx context.Context, in *JobInput) (*body[contract.JobFile], error) {
	text, err := s.Runner.JobText(ctx, in.Name)
	return &body[contract.JobFile]{contract.JobFile{Text: text}}, err
}

func (s *Server) loadJobFile(ctx context.Context, in *body[contract.JobFile]) (*body[contract.Loaded], error) {
	loaded, err := s.Runner.Load(ctx, in.Body)
	return &body[contract.Loaded]{loaded}, err
}
