package client

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"

	"deftheron/contract"
	"deftheron/core/remedy"
)

// Survey takes the inventory of an address, for a target if that is not empty. told, if
// not nil, is called from time to time with the number of entries seen.
func (c *Client) Survey(ctx context.Context, address, target string, told func(entries int64)) (contract.Survey, error) {
	response, err := c.request(ctx, http.MethodGet, "/survey", url.Values{"address": {address}, "for": {target}}, nil, nil)
	if err != nil {
		return contract.Survey{}, err
	}
	defer response.Body.Close()
	for decoder := json.NewDecoder(response.Body); ; {
		var line contract.Surveying
		switch err := decoder.Decode(&line); {
		case errors.Is(err, io.EOF):
			return contract.Survey{}, remedy.New("the survey broke off before its end; survey again")
		case err != nil:
			return contract.Survey{}, err
		case line.Problem != nil:
			return contract.Survey{}, line.Problem
		case line.Survey != nil:
			return *line.Survey, nil
		case told != nil:
			told(line.Entries)
		}
	}
}

// SurveyPage writes a survey as a page (HTML).
func (c *Client) SurveyPage(ctx context.Context, address, target string, w io.Writer) error {
	response, err := c.request(ctx, http.MethodGet, "/survey", url.Values{"address": {address}, "for": {target}, "format": {"html"}}, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}
