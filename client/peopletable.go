package client

import (
	"context"
	"net/http"

	"deftheron/contract"
)

// PeopleTable returns the table of people of a migration, and who is in the share lists that
// its last survey read.
func (c *Client) PeopleTable(ctx context.Context, job string) (people contract.People, err error) {
	return people, c.call(ctx, http.MethodGet, jobPath(job)+"/people", nil, nil, &people)
}
