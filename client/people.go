package client

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"iter"
	"net/http"
	"net/url"

	"deftheron/contract"
)

// Users returns the users, by name.
func (c *Client) Users(ctx context.Context) (users []contract.User, err error) {
	return users, c.call(ctx, http.MethodGet, "/users", nil, nil, &users)
}

// User returns one user.
func (c *Client) User(ctx context.Context, name string) (user contract.User, err error) {
	return user, c.call(ctx, http.MethodGet, userPath(name), nil, nil, &user)
}

func userPath(name string) string { return "/users/" + url.PathEscape(name) }

// AddUser adds a user.
func (c *Client) AddUser(ctx context.Context, user contract.NewUser) (added contract.User, err error) {
	return added, c.call(ctx, http.MethodPost, "/users", nil, user, &added)
}

// ChangeUser changes a user.
func (c *Client) ChangeUser(ctx context.Context, name string, change contract.UserChange) (changed contract.User, err error) {
	return changed, c.call(ctx, http.MethodPatch, userPath(name), nil, change, &changed)
}

// RemoveUser removes a user with everything that lets the user in.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, userPath(name), nil, nil, nil)
}

// SetGrant gives a user a role on a place.
func (c *Client) SetGrant(ctx context.Context, name string, grant contract.Grant) (changed contract.User, err error) {
	return changed, c.call(ctx, http.MethodPut, userPath(name)+"/grants", nil, grant, &changed)
}

// RemoveGrant takes a user's role on a place away.
func (c *Client) RemoveGrant(ctx context.Context, name, address string) (changed contract.User, err error) {
	return changed, c.call(ctx, http.MethodDelete, userPath(name)+"/grants", url.Values{"address": {address}}, nil, &changed)
}

// UserLink makes a link that signs a user in to the console once.
func (c *Client) UserLink(ctx context.Context, name string) (link contract.SigninLink, err error) {
	return link, c.call(ctx, http.MethodPost, userPath(name)+"/signin-links", nil, nil, &link)
}

// Tokens returns the tokens for programs: the user's own, or for an owner those of all users.
func (c *Client) Tokens(ctx context.Context) (tokens []contract.Token, err error) {
	return tokens, c.call(ctx, http.MethodGet, "/tokens", nil, nil, &tokens)
}

// MakeToken makes a token for programs.
func (c *Client) MakeToken(ctx context.Context, asked contract.TokenRequest) (made contract.MadeToken, err error) {
	return made, c.call(ctx, http.MethodPost, "/tokens", nil, asked, &made)
}

// RevokeToken revokes a token for programs, by its id or its name.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(id), nil, nil, nil)
}

// TokenFor signs in with a name and a password and makes a token for programs, for which the
// session is needed no longer than that takes.
func (c *Client) TokenFor(ctx context.Context, signin contract.SignIn, asked contract.TokenRequest) (made contract.MadeToken, err error) {
	c = &Client{URL: c.URL, HTTP: c.HTTP} // without the token of somebody else
	response, err := c.request(ctx, http.MethodPost, "/session", nil, signin, nil)
	if err != nil {
		return made, err
	}
	response.Body.Close()
	cookie := http.Header{}
	for _, one := range response.Cookies() {
		cookie.Add("Cookie", one.Name+"="+one.Value)
	}
	cookie.Set("Origin", c.URL)
	defer func() {
		ended, endErr := c.request(ctx, http.MethodDelete, "/session", nil, nil, cookie)
		if endErr == nil {
			ended.Body.Close()
		}
		err = errors.Join(err, endErr)
	}()
	if response, err = c.request(ctx, http.MethodPost, "/tokens", nil, asked, cookie); err != nil {
		return made, err
	}
	defer response.Body.Close()
	err = json.NewDecoder(response.Body).Decode(&made)
	return made, err
}

// AuditFilter chooses entries of the audit log; its zero value takes all.
type AuditFilter struct{ User, Action, Text string }

// Audit yields the audit log, newest first.
func (c *Client) Audit(ctx context.Context, filter AuditFilter) iter.Seq2[contract.AuditEntry, error] {
	return pages(func(cursor string) ([]contract.AuditEntry, string, error) {
		var page contract.AuditPage
		query := url.Values{"limit": {"200"}}
		for name, value := range map[string]string{"user": filter.User, "action": filter.Action, "text": filter.Text, "cursor": cursor} {
			if value != "" {
				query.Set(name, value)
			}
		}
		err := c.call(ctx, http.MethodGet, "/audit", query, nil, &page)
		return page.Entries, page.Next, err
	})
}

// VerifyAudit checks that the audit log is as it was written.
func (c *Client) VerifyAudit(ctx context.Context) (checked contract.AuditCheck, err error) {
	return checked, c.call(ctx, http.MethodGet, "/audit/verification", nil, nil, &checked)
}

// ExportAudit writes the whole audit log as JSON Lines, oldest first.
func (c *Client) ExportAudit(ctx context.Context, w io.Writer) error {
	response, err := c.request(ctx, http.MethodGet, "/audit/export", nil, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}
