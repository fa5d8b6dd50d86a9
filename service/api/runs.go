package api

import (
	"context"
	"errors"
	"strconv"
	"time"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/core/tree"
	"deftheron/service/messages"
	"deftheron/service/records"
	"deftheron/service/runner"
)

// PageInput is a page asked for. It is exported, like RunInput, since the
// library looks for parameters in exported fields alone.
type PageInput struct {
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	Cursor string `query:"cursor"`
}

// after reads a cursor that is a number.
func (p PageInput) after() (int64, error) {
	if p.Cursor == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(p.Cursor, 10, 64)
	if err != nil {
		return 0, remedy.Errorf("the cursor %q is none; leave it out for the first page", p.Cursor)
	}
	return n, nil
}

type runsInput struct {
	PageInput
	Job     string    `query:"job" doc:"Runs of this job."`
	Account string    `query:"account" doc:"Runs that read from or write to this account."`
	State   []string  `query:"state" enum:"queued,running,paused,held,done,partial,failed,cancelled" doc:"Runs in one of these states, separated by commas."`
	From    time.Time `query:"from" doc:"Runs created at this time or later."`
	To      time.Time `query:"to" doc:"Runs created before this time."`
	Text    string    `query:"text" maxLength:"200" doc:"Runs with this text in the id, the name of the job or an address. Pages may have fewer runs than the limit, and still have a next page."`
}

func (s *Server) listRuns(ctx context.Context, in *runsInput) (*body[contract.RunPage], error) {
	before, err := in.after()
	if err != nil {
		return nil, err
	}
	filter := records.RunFilter{Job: in.Job, Account: in.Account, From: in.From, To: in.To, Text: in.Text}
	for _, state := range in.State {
		filter.States = append(filter.States, run.State(state))
	}
	runs, next, err := s.Runner.Runs(ctx, filter, before, in.Limit)
	page := contract.RunPage{Runs: runs}
	if next > 0 {
		page.Next = strconv.FormatInt(next, 10)
	}
	return &body[contract.RunPage]{page}, err
}

func (s *Server) runSeries(ctx context.Context, in *RunInput) (*body[contract.RunSeries], error) {
	series, err := s.Runner.Series(ctx, in.ID)
	return &body[contract.RunSeries]{series}, noRun(in.ID, err)
}

func (s *Server) runEvents(ctx context.Context, in *RunInput) (*body[[]contract.RunEvent], error) {
	events, err := s.Runner.Events(ctx, in.ID)
	return &body[[]contract.RunEvent]{events}, noRun(in.ID, err)
}

type flowsInput struct {
	Days int `query:"days" default:"30" minimum:"1" maximum:"366" doc:"How many days back."`
}

func (s *Server) flows(ctx context.Context, in *flowsInput) (*body[[]contract.FlowDay], error) {
	days, err := s.DB.BytesByDay(ctx, time.Now().AddDate(0, 0, -in.Days))
	shown := []contract.FlowDay{}
	for _, day := range days {
		if tree.Sees(ctx, store.Address{Account: day.From}) != tree.Seen || tree.Sees(ctx, store.Address{Account: day.To}) != tree.Seen {
			continue
		}
		shown = append(shown, contract.FlowDay(day))
	}
	return &body[[]contract.FlowDay]{shown}, err
}

// RunInput names a run.
type RunInput struct {
	ID string `path:"id" doc:"The run's id."`
}

// noRun says of a run that is not there where to look.
func noRun(id string, err error) error {
	if errors.Is(err, records.ErrNotFound) {
		return messages.With(store.Errorf(store.ErrNotFound, "there is no run %q; check the list of runs", id), "heron run list")
	}
	return err
}

func (s *Server) showRun(ctx context.Context, in *RunInput) (*body[contract.Run], error) {
	run, err := s.Runner.Run(ctx, in.ID)
	return &body[contract.Run]{run}, noRun(in.ID, err)
}

type itemsInput struct {
	RunInput
	PageInput
	State  string `query:"state" enum:"waiting,done,skipped,failed" doc:"Only those in this state."`
	Cause  string `query:"cause" doc:"Only those with this cause."`
	Action string `query:"action" enum:"create,replace,keep-both,make-folder,look,ask,remove,clear,recheck,skip,refuse" doc:"Only those with this action."`
	Folder string `query:"folder" doc:"Only those in this folder of the source or the target, by its address."`
	Text   string `query:"text" maxLength:"200" doc:"Only those with this text in their path. Pages may have fewer items than the limit, and still have a next page."`
}

func (s *Server) listItems(ctx context.Context, in *itemsInput) (*body[contract.ItemPage], error) {
	after, err := in.after()
	if err != nil {
		return nil, err
	}
	items, next, err := s.Runner.Items(ctx, in.ID, runner.ItemFilter{
		State: transfer.State(in.State), Cause: plan.Cause(in.Cause), Action: plan.Action(in.Action), Folder: in.Folder, Text: in.Text,
	}, after, in.Limit)
	page := contract.ItemPage{Items: items}
	if next > 0 {
		page.Next, page.Searched = strconv.FormatInt(next, 10), next
	}
	return &body[contract.ItemPage]{page}, noRun(in.ID, err)
}

type decideInput struct {
	RunInput
	Body contract.ItemDecision
}

func (s *Server) decideItems(ctx context.Context, in *decideInput) (*body[contract.Decided], error) {
	decided, err := s.Runner.Decide(ctx, in.ID, in.Body)
	return &body[contract.Decided]{contract.Decided{Items: decided}}, noRun(in.ID, err)
}

func (s *Server) causes(ctx context.Context, in *RunInput) (*body[[]contract.CauseCount], error) {
	counts, err := s.Runner.Causes(ctx, in.ID)
	return &body[[]contract.CauseCount]{counts}, noRun(in.ID, err)
}

func (s *Server) cancelRun(ctx context.Context, in *RunInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.Cancel(ctx, in.ID))
}

func (s *Server) pauseRun(ctx context.Context, in *RunInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.Pause(ctx, in.ID))
}

func (s *Server) resumeRun(ctx context.Context, in *RunInput) (*none, error) {
	return &none{}, noRun(in.ID, s.Runner.Continue(ctx, in.ID))
}

func (s *Server) retryRun(ctx context.Context, in *RunInput) (*body[contract.Retried], error) {
	items, err := s.Runner.Retry(ctx, in.ID)
	return &body[contract.Retried]{contract.Retried{Items: items}}, noRun(in.ID, err)
}

// rates returns the rates of all transfers: a caller who does not see everything gets none.
func (s *Server) rates(ctx context.Context, _ *none) (*body[contract.Rates], error) {
	rates := s.Hub.Rates()
	if tree.ScopeOf(ctx) != nil {
		clear(rates)
	}
	return &body[contract.Rates]{contract.Rates{Rates: rates}}, nil
}
