package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"time"

	"deftheron/contract"
)

func jobPath(name string) string { return "/jobs/" + url.PathEscape(name) }

// Jobs returns the jobs that are kept.
func (c *Client) Jobs(ctx context.Context) ([]contract.Job, error) {
	var jobs contract.Jobs
	err := c.call(ctx, http.MethodGet, "/jobs", nil, nil, &jobs)
	return jobs.Jobs, err
}

// Job returns one job.
func (c *Client) Job(ctx context.Context, name string) (job contract.Job, err error) {
	return job, c.call(ctx, http.MethodGet, jobPath(name), nil, nil, &job)
}

// CreateJob makes a job.
func (c *Client) CreateJob(ctx context.Context, spec contract.NewJob) (job contract.Job, err error) {
	return job, c.call(ctx, http.MethodPost, "/jobs", nil, spec, &job)
}

// ChangeJob changes a job in place. seen is when it was changed last, as it was shown: if it was
// changed since, nothing is changed. The zero time changes it in any case.
func (c *Client) ChangeJob(ctx context.Context, name string, spec contract.JobSpec, seen time.Time) (job contract.Job, err error) {
	header := http.Header{}
	if !seen.IsZero() {
		header.Set("If-Match", `"`+seen.Format(time.RFC3339Nano)+`"`)
	}
	response, err := c.request(ctx, http.MethodPut, jobPath(name), nil, spec, header)
	if err != nil {
		return job, err
	}
	defer response.Body.Close()
	return job, json.NewDecoder(response.Body).Decode(&job)
}

// RemoveJob forgets a job.
func (c *Client) RemoveJob(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, jobPath(name), nil, nil, nil)
}

// StartJob starts a run of a job; of a migration, the step that comes next.
func (c *Client) StartJob(ctx context.Context, name string) (started contract.Started, err error) {
	return c.StartStep(ctx, name, "")
}

// StartStep starts a step of a migration.
func (c *Client) StartStep(ctx context.Context, name, step string) (started contract.Started, err error) {
	return started, c.call(ctx, http.MethodPost, jobPath(name)+"/start", nil, contract.Starting{Step: step}, &started)
}

// SuspendJob stops a job from running automatically, until ResumeJob.
func (c *Client) SuspendJob(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, jobPath(name)+"/suspend", nil, nil, nil)
}

// ResumeJob lets a suspended job run automatically again.
func (c *Client) ResumeJob(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, jobPath(name)+"/resume", nil, nil, nil)
}

// PlanJob returns what a run of a job would do now.
func (c *Client) PlanJob(ctx context.Context, name string) (plan contract.Plan, err error) {
	return plan, c.call(ctx, http.MethodGet, jobPath(name)+"/plan", nil, nil, &plan)
}

// PlanSpec returns what the first run of a job would do that does not exist yet.
func (c *Client) PlanSpec(ctx context.Context, spec contract.JobSpec) (plan contract.Plan, err error) {
	return plan, c.call(ctx, http.MethodPost, "/jobs/plans", nil, spec, &plan)
}

// JobFile returns a job as a job file.
func (c *Client) JobFile(ctx context.Context, name string) (string, error) {
	var file contract.JobFile
	err := c.call(ctx, http.MethodGet, jobPath(name)+"/file", nil, nil, &file)
	return file.Text, err
}

// LoadJobs makes or changes the jobs of a job file; try says what that would do.
func (c *Client) LoadJobs(ctx context.Context, text string, try bool) (loaded contract.Loaded, err error) {
	return loaded, c.call(ctx, http.MethodPost, "/job-files", nil, contract.JobFile{Text: text, Try: try}, &loaded)
}
