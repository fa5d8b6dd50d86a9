package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/history"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

func (s *Server) registerHistory(api huma.API) {
	add(api, http.MethodGet, "/history", "show-history", "The versions of a file, or when a folder changed", http.StatusOK, s.showHistory)
	add(api, http.MethodPost, "/restores", "start-restore", "Restore what an address was at a time", http.StatusCreated, s.startRestore)
	add(api, http.MethodPost, "/restores/plans", "plan-restore", "What a restore would do", http.StatusOK, s.planRestore)
	add(api, http.MethodPost, "/jobs/{name}/history/plans", "plan-job-history", "What other rules for versions would delete now",
		http.StatusOK,
		s.planHistory)
}

type pastInput struct {
	Address string    `query:"address" required:"true" doc:"A file or a folder, also one that is not there any more."`
	Before  time.Time `query:"before" doc:"Of a folder, only runs that began before this time."`
	Limit   int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (s *Server) showHistory(ctx context.Context, in *pastInput) (*body[contract.Past], error) {
	address, err := store.ParseAddress(in.Address)
	if err != nil {
		return nil, err
	}
	shown := contract.Past{Address: address.String(), Kind: string(store.KindFolder), Versions: []contract.Version{},
		Changes: []contract.PastChange{}}
	located, known, err := s.Runner.History(ctx, address)
	if err != nil {
		return nil, err
	}
	held, err := known.Held(ctx)
	if err != nil {
		return nil, err
	}
	shown.Held = contract.HistoryCount(held)
	if !located.Place.IsStart() && !address.Folder {
		rows, err := known.Of(ctx, history.KeyOf(located.Place), in.Limit)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			shown.Versions = append(shown.Versions, s.masked(ctx, versionOf(located.Name, row)))
		}
		if len(rows) > 0 {
			shown.Kind = string(store.KindFile)
			return &body[contract.Past]{shown}, nil
		}
	}
	before := in.Before
	if before.IsZero() {
		before = time.Now().Add(time.Hour)
	}
	parts, err := known.PartsOf(ctx, located.Place.AsFolder().Path, before, in.Limit)
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		shown.Changes = append(shown.Changes, contract.PastChange{First: part.First, Last: part.Last, Changes: part.Changed, Run: part.Run,
			Job: part.Job})
		if last := &shown.Changes[len(shown.Changes)-1]; tree.ScopeOf(ctx) != nil && s.Runner.CheckJobSeen(ctx, last.Job, false) != nil {
			last.Job, last.Run = "", ""
		}
	}
	if len(parts) == 0 {
		entry, err := located.Store.Stat(ctx, located.Place)
		if err != nil {
			return nil, s.explain(ctx, address, err)
		}
		if entry.Kind != store.KindFolder {
			shown.Kind = string(store.KindFile)
		}
	}
	return &body[contract.Past]{shown}, nil
}

// masked returns a version without the names that the caller may not see: the job that made it, and the
// address to which the file was moved.
func (s *Server) masked(ctx context.Context, version contract.Version) contract.Version {
	if tree.ScopeOf(ctx) == nil {
		return version
	}
	if to, err := store.ParseAddress(version.To); err != nil || tree.CheckSeen(ctx, to) != nil {
		version.To = ""
	}
	if s.Runner.CheckJobSeen(ctx, version.Job, false) != nil {
		version.Job, version.Run = "", ""
	}
	return version
}

func versionOf(account string, row records.HistoryRow) contract.Version {
	version := contract.Version{Change: string(row.How), At: row.At, Since: momentOf(row.Since), Hash: row.Hash, Run: row.Run, Job: row.Job,
		Locked: momentOf(row.Locked), Enforced: row.Enforced}
	if row.HasContent() {
		version.Size, version.Modified = row.Size, momentOf(row.Modified)
		version.Kept, version.Version = store.MakeAddress(account, row.Kept.Ref("", store.KindFile)).String(), row.Version
	}
	if row.How == history.Moved {
		version.To = store.MakeAddress(account, row.To.Ref("", store.KindFile)).String()
	}
	return version
}

// momentOf is a time that may be unknown.
func momentOf(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	return &at
}

func (s *Server) startRestore(ctx context.Context, in *body[contract.Restore]) (*body[contract.Started], error) {
	started, err := s.Runner.Restore(ctx, in.Body)
	return &body[contract.Started]{started}, err
}

func (s *Server) planRestore(ctx context.Context, in *body[contract.Restore]) (*body[contract.Plan], error) {
	plan, err := s.Runner.PlanRestore(ctx, in.Body)
	return &body[contract.Plan]{plan}, err
}

type historyRulesInput struct {
	JobInput
	Body contract.HistoryRules
}

func (s *Server) planHistory(ctx context.Context, in *historyRulesInput) (*body[contract.HistoryCount], error) {
	freed, err := s.Runner.HistoryFreed(ctx, in.Name, in.Body)
	return &body[contract.HistoryCount]{contract.HistoryCount(freed)}, err
}

// parseAt reads the time of a request; an empty one is now.
func parseAt(text string) (at time.Time, err error) {
	if text == "" {
		return at, nil
	}
	if at, err = time.Parse(time.RFC3339Nano, text); err != nil {
		err = store.Errorf(store.ErrRefused, "%q is not a time; write it as 2026-11-20T18:00:00Z", text)
	}
	return at, err
}
