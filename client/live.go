package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"deftheron/contract"
)

// Follow calls each with every change of a run until it has ended, and returns it. If
// the service does not answer, Follow tries again, because a run continues when the
// service is back; away, if not nil, is called once each time.
func (c *Client) Follow(ctx context.Context, id string, each func(contract.Run), away func(error)) (contract.Run, error) {
	last, told := "", false
	for {
		run, err := c.Run(ctx, id)
		var unreachable *UnreachableError
		switch {
		case errors.As(err, &unreachable):
			if !told && away != nil {
				away(err)
			}
			told = true
		case err != nil:
			return run, err
		default:
			told = false
			each(run)
			if run.Settled() {
				return run, nil
			}
			last, err = c.listen(ctx, last, id, func(run contract.Run) bool {
				each(run)
				return run.Settled()
			})
			var problem *contract.Problem
			if errors.As(err, &problem) {
				return run, err
			}
			if err == nil {
				continue // it has ended, or the stream has: look
			}
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return run, ctx.Err()
		}
	}
}

// listen reads live events of a run after the last id seen, and returns the new
// one. It ends when the stream does, or when enough returns true. Once it is
// heard, it looks at the run, which may have come on unheard.
func (c *Client) listen(ctx context.Context, last, id string, enough func(contract.Run) bool) (string, error) {
	header := http.Header{}
	if last != "" {
		header.Set("Last-Event-ID", last)
	}
	response, err := c.request(ctx, http.MethodGet, "/live", nil, nil, header)
	if err != nil {
		return last, err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(make([]byte, 64<<10), 16<<20)
	var name string
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			last = value
		case "event":
			name = value
		case "data":
			runs := runsOf(name, value)
			if name == "again" {
				run, err := c.Run(ctx, id)
				if err != nil {
					return last, err
				}
				runs = []contract.Run{run}
			}
			for _, run := range runs {
				if run.ID == id && enough(run) {
					return last, nil
				}
			}
		}
	}
	return last, lines.Err()
}

func runsOf(name, data string) []contract.Run {
	switch name {
	case "run":
		var run contract.Run
		if json.Unmarshal([]byte(data), &run) == nil {
			return []contract.Run{run}
		}
	case "progress":
		var progress contract.Progress
		if json.Unmarshal([]byte(data), &progress) == nil {
			return progress.Runs
		}
	}
	return nil
}
