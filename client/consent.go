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
	"deftheron/core/remedy"
)

// Provider returns one kind of place, with the text of its definition where it
// has one.
func (c *Client) Provider(ctx context.Context, name string) (provider contract.Provider, err error) {
	return provider, c.call(ctx, http.MethodGet, "/providers/"+url.PathEscape(name), nil, nil, &provider)
}

// AddDefinition adds a provider definition, or replaces one that was added.
func (c *Client) AddDefinition(ctx context.Context, text contract.DefinitionText) (provider contract.Provider, err error) {
	return provider, c.call(ctx, http.MethodPost, "/definitions", nil, text, &provider)
}

// CheckDefinition reads a provider definition without adding it.
func (c *Client) CheckDefinition(ctx context.Context, text contract.DefinitionText) (provider contract.Provider, err error) {
	return provider, c.call(ctx, http.MethodPost, "/definitions/checks", nil, text, &provider)
}

// RemoveDefinition forgets a provider definition that no account uses.
func (c *Client) RemoveDefinition(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/definitions/"+url.PathEscape(name), nil, nil, nil)
}

// Register uses an app registration of one's own at a provider.
func (c *Client) Register(ctx context.Context, provider string, registration contract.Registration) error {
	return c.call(ctx, http.MethodPut, "/providers/"+url.PathEscape(provider)+"/registration", nil, registration, nil)
}

// BeginConsent begins to link an account by consent, or to mend one.
func (c *Client) BeginConsent(ctx context.Context, asked contract.Consenting) (consent contract.Consent, err error) {
	return consent, c.call(ctx, http.MethodPost, "/consents", nil, asked, &consent)
}

// Consent returns how a consent is.
func (c *Client) Consent(ctx context.Context, id string) (consent contract.Consent, err error) {
	return consent, c.call(ctx, http.MethodGet, "/consents/"+url.PathEscape(id), nil, nil, &consent)
}

// AnswerConsent gives what the page showed.
func (c *Client) AnswerConsent(ctx context.Context, id, text string) (consent contract.Consent, err error) {
	return consent, c.call(ctx, http.MethodPost, "/consents/"+url.PathEscape(id)+"/answer", nil, contract.Pasted{Text: text}, &consent)
}

// GiveUpConsent gives a consent up.
func (c *Client) GiveUpConsent(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/consents/"+url.PathEscape(id), nil, nil, nil)
}

// Reauthorize gives an account a new secret.
func (c *Client) Reauthorize(ctx context.Context, name string, given contract.Reauthorizing) (account contract.Account, err error) {
	return account, c.call(ctx, http.MethodPost, accountPath(name, "/reauthorize"), nil, given, &account)
}

// Try tries a provider definition against a live account, and yields each part
// as it ends; the last has the sum.
func (c *Client) Try(ctx context.Context, trial contract.Trial) iter.Seq2[contract.TrialResult, error] {
	return func(yield func(contract.TrialResult, error) bool) {
		response, err := c.request(ctx, http.MethodPost, "/trials", nil, trial, nil)
		if err != nil {
			yield(contract.TrialResult{}, err)
			return
		}
		defer response.Body.Close()
		decoder := json.NewDecoder(response.Body)
		for {
			var result contract.TrialResult
			if err := decoder.Decode(&result); err != nil {
				if errors.Is(err, io.EOF) {
					err = remedy.New("the service ended the trial before its end; look into its log")
				}
				yield(result, err)
				return
			}
			if !yield(result, nil) || result.Sum != nil {
				return
			}
		}
	}
}
