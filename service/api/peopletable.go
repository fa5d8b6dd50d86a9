package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/job"
)

func (s *Server) registerPeopleTables(api huma.API) {
	add(api, http.MethodGet, "/jobs/{name}/people", "show-people",
		"Show the table of people of a migration, and who is in the share lists", http.StatusOK, s.showPeople)
	add(api, http.MethodPost, "/jobs/people", "read-people", "Read a table of people in CSV, without saving it", http.StatusOK, s.readPeople)
}

func (s *Server) showPeople(ctx context.Context, in *nameInput) (*body[contract.People], error) {
	shown, err := s.Runner.People(ctx, in.Name)
	return &body[contract.People]{shown}, err
}

// PeopleTableInput is a table in CSV.
type PeopleTableInput struct{ Body contract.PeopleTable }

func (s *Server) readPeople(_ context.Context, in *PeopleTableInput) (*body[contract.PeopleRead], error) {
	people, err := job.ReadPeople(strings.NewReader(in.Body.Text))
	return &body[contract.PeopleRead]{contract.PeopleRead{Table: people}}, err
}
