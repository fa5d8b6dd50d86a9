package api

import (
	"context"

	"deftheron/contract"
	"deftheron/service/diagnosis"
)

// diagnose looks at the service and its machine.
func (s *Server) diagnose(ctx context.Context, in *none) (*body[contract.Diagnosis], error) {
	// This asks all accounts at once, each for some seconds at most, and sets their states.
	if _, _, err := s.Accounts.Spaces(ctx); err != nil {
		return nil, err
	}
	linked, err := s.listAccounts(ctx, in)
	if err != nil {
		return nil, err
	}
	workers, err := s.listWorkers(ctx, in)
	if err != nil {
		return nil, err
	}
	found := diagnosis.Of(ctx, diagnosis.Subject{Data: s.Data, Records: s.DB, Accounts: linked.Body, Workers: workers.Body, Version: s.Version,
		Now: s.Access.Now})
	return &body[contract.Diagnosis]{found}, nil
}
