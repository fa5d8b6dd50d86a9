package demo

import (
	"context"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/standin"
)

// signInTitle is what the OpenID provider of the demo is called.
const signInTitle = "Fenmere sign-in"

// addSurveyor has the surveyor sign in through the OpenID provider for the first time, and gives the
// grants.
func addSurveyor(ctx context.Context, c *client.Client) error {
	surveyor := standin.Identities()[0]
	if _, err := c.User(ctx, surveyor.Name); err == nil { // of a demo that was kept; the provider is a new one
		if err := c.RemoveUser(ctx, surveyor.Name); err != nil {
			return err
		}
	}
	if err := SignInAs(ctx, c.URL, surveyor.Subject); err != nil {
		return err
	}
	for _, grant := range []contract.Grant{{Address: "/field-drive", Role: "operator"}, {Address: "/archive", Role: "viewer"}} {
		if _, err := c.SetGrant(ctx, surveyor.Name, grant); err != nil {
			return err
		}
	}
	return nil
}

// SignInAs signs in to a service through the stand-in OpenID provider, as a browser of somebody would.
func SignInAs(ctx context.Context, service, subject string) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	browser := &http.Client{Jar: jar}
	send := func(method, address, body string) (*http.Response, error) {
		request, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(body))
		if err != nil {
			return nil, err
		}
		request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		response, err := browser.Do(request)
		if err != nil {
			return nil, err
		}
		response.Body.Close()
		if response.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("signing in led to %s", response.Status)
		}
		return response, nil
	}
	page, err := send(http.MethodGet, service+contract.Root+"/session/provider", "")
	if err != nil {
		return err
	}
	_, err = send(http.MethodPost, page.Request.URL.String(), url.Values{"subject": {subject}}.Encode())
	return err
}
