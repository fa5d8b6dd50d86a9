package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"deftheron/contract"
)

func accountPath(name, rest string) string { return "/accounts/" + url.PathEscape(name) + rest }

// Edit changes an account in place. A *contract.Problem with CauseOtherPlace wants
// a person's word first.
func (c *Client) Edit(ctx context.Context, name string, edit contract.AccountEdit) (account contract.Account, err error) {
	return account, c.call(ctx, http.MethodPatch, accountPath(name, ""), nil, edit, &account)
}

// Suspend takes an account out of use until it is resumed.
func (c *Client) Suspend(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, accountPath(name, "/suspend"), nil, nil, nil)
}

// ResumeAccount takes a suspended account into use again.
func (c *Client) ResumeAccount(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, accountPath(name, "/resume"), nil, nil, nil)
}

// UnlinkAnyway unlinks an account though jobs use it.
func (c *Client) UnlinkAnyway(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, accountPath(name, ""), url.Values{"anyway": {"true"}}, nil, nil)
}

// History returns the events of the account that has a name, or had it last; an empty
// name means all accounts.
func (c *Client) History(ctx context.Context, name string) (events []contract.LinkEvent, err error) {
	query := url.Values{}
	if name != "" {
		query.Set("account", name)
	}
	return events, c.call(ctx, http.MethodGet, "/link-events", query, nil, &events)
}

// Resources lists the places behind a sign-in before any is linked.
func (c *Client) Resources(ctx context.Context, link contract.Link) (behind contract.Resources, err error) {
	return behind, c.call(ctx, http.MethodPost, "/resources", nil, link, &behind)
}

// AccountResources lists what else is behind the sign-in of an account.
func (c *Client) AccountResources(ctx context.Context, name string) (behind contract.Resources, err error) {
	return behind, c.call(ctx, http.MethodGet, accountPath(name, "/resources"), nil, nil, &behind)
}

// LinkResource links another place behind the sign-in of an account.
func (c *Client) LinkResource(ctx context.Context, name string, taking contract.Taking) (account contract.Account, err error) {
	return account, c.call(ctx, http.MethodPost, accountPath(name, "/resources"), nil, taking, &account)
}

// ProbeIdentity asks a server what it shows of itself before anybody signs in.
func (c *Client) ProbeIdentity(ctx context.Context, link contract.Link) (introduced contract.Identity, err error) {
	return introduced, c.call(ctx, http.MethodPost, "/identities", nil, link, &introduced)
}

// NewKey makes a key for a sealed place; the service does not keep it.
func (c *Client) NewKey(ctx context.Context) (key contract.NewKey, err error) {
	return key, c.call(ctx, http.MethodPost, "/keys", nil, nil, &key)
}

// Sealing returns the keys of a sealed account.
func (c *Client) Sealing(ctx context.Context, name string) (sealing contract.Sealing, err error) {
	return sealing, c.call(ctx, http.MethodGet, "/accounts/"+url.PathEscape(name)+"/sealing", nil, nil, &sealing)
}

// StartSealing starts work on a sealed account.
func (c *Client) StartSealing(ctx context.Context, name string, work contract.SealingWork) (sealing contract.Sealing, err error) {
	return sealing, c.call(ctx, http.MethodPost, "/accounts/"+url.PathEscape(name)+"/sealing", nil, work, &sealing)
}

// Nearby looks for servers on the service's local network.
func (c *Client) Nearby(ctx context.Context, within time.Duration) (servers []contract.DiscoveredServer, err error) {
	query := url.Values{"seconds": {strconv.FormatFloat(within.Seconds(), 'f', -1, 64)}}
	return servers, c.call(ctx, http.MethodGet, "/discovered", query, nil, &servers)
}

// MeasureSpeed checks the speed of an account, which takes as long as it takes.
func (c *Client) MeasureSpeed(ctx context.Context, name string, check contract.SpeedCheck) (speed contract.Speed, err error) {
	return speed, c.call(ctx, http.MethodPost, accountPath(name, "/speeds"), nil, check, &speed)
}

// Speeds returns the speed checks of an account, newest first.
func (c *Client) Speeds(ctx context.Context, name string) (speeds []contract.Speed, err error) {
	return speeds, c.call(ctx, http.MethodGet, accountPath(name, "/speeds"), nil, nil, &speeds)
}
