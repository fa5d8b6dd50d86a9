package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/sealed"
	"deftheron/core/store"
	"deftheron/service/accounts"
)

func (s *Server) registerSealing(api huma.API) {
	add(api, http.MethodPost, "/keys", "new-key", "Make a key for a sealed place", http.StatusCreated, s.newKey)
	add(api, http.MethodGet, "/accounts/{name}/sealing", "show-sealing", "Show the recipients of a sealed account", http.StatusOK,
		s.showSealing)
	add(api, http.MethodPost, "/accounts/{name}/sealing", "start-sealing", "Seal an account to its recipients again, or rebuild its manifests",
		http.StatusAccepted, s.startSealing)
}

func (s *Server) newKey(context.Context, *none) (*body[contract.NewKey], error) {
	identity, recipient, err := sealed.NewKey()
	return &body[contract.NewKey]{contract.NewKey{Identity: identity, Recipient: recipient}}, err
}

func (s *Server) showSealing(ctx context.Context, in *nameInput) (*body[contract.Sealing], error) {
	is, err := s.Accounts.Sealing(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	shown := contract.Sealing{Recipients: append([]string{}, is.Recipients...), NeedsReseal: is.NeedsReseal}
	if is.Task != nil {
		shown.Task = sealingTaskOf(in.Name, *is.Task)
	}
	return &body[contract.Sealing]{shown}, nil
}

func sealingTaskOf(account string, task accounts.SealingTask) *contract.SealingTask {
	shown := &contract.SealingTask{Kind: task.Kind, Started: task.Started}
	if !task.Ended.IsZero() {
		shown.Ended = &task.Ended
	}
	shown.Names, shown.Files, shown.Bytes, shown.Left = task.Resealed.Folders, task.Resealed.Files, task.Resealed.Bytes, task.Resealed.Left
	if task.Kind == accounts.TaskRebuild {
		shown.Files, shown.Left = task.Rebuilt.Files, task.Rebuilt.Unknown
	}
	for _, folder := range task.Rebuilt.Folders {
		shown.Folders = append(shown.Folders, store.MakeAddress(account, folder.Ref()).String())
	}
	if task.Err != nil {
		why := problem(task.Err)
		shown.Why, shown.Remedy = why.Detail, why.Remedy
	}
	return shown
}

type sealingInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.SealingWork
}

func (s *Server) startSealing(ctx context.Context, in *sealingInput) (*body[contract.Sealing], error) {
	start := func() error { return s.Accounts.Reseal(ctx, in.Name, in.Body.Contents) }
	if in.Body.Kind == accounts.TaskRebuild {
		start = func() error { return s.Accounts.Rebuild(ctx, in.Name) }
	}
	if err := start(); err != nil {
		return nil, err
	}
	return s.showSealing(ctx, &nameInput{in.Name})
}
