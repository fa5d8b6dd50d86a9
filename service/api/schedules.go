package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/remedy"
	"deftheron/core/week"
	"deftheron/service/runner"
)

func (s *Server) registerSchedules(api huma.API) {
	add(api, http.MethodPost, "/schedules/week", "read-week", "Read hours of the week as a grid, or a grid as hours", http.StatusOK,
		s.readWeek)
	add(api, http.MethodPost, "/schedules/times", "list-times", "The next times of a schedule", http.StatusOK, s.listTimes)
}

type weekInput struct {
	Body contract.WeekHours
}

func (s *Server) readWeek(_ context.Context, in *weekInput) (*body[contract.WeekHours], error) {
	if in.Body.Cells == "" {
		stretches, err := week.Read(in.Body.Text, true)
		if err != nil {
			return nil, runner.NewInputError(err)
		}
		cells, exact := week.Cells(stretches)
		return &body[contract.WeekHours]{contract.WeekHours{Text: in.Body.Text, Cells: cellsText(cells), Exact: exact}}, nil
	}
	var cells [week.Hours]bool
	if len(in.Body.Cells) != week.Hours || strings.Trim(in.Body.Cells, "01") != "" {
		return nil, runner.NewInputError(remedy.Errorf("a grid has %d hours, each 0 or 1; this has %d characters",
			week.Hours, len(in.Body.Cells)))
	}
	for i, cell := range in.Body.Cells {
		cells[i] = cell == '1'
	}
	return &body[contract.WeekHours]{contract.WeekHours{Text: week.Format(cells), Cells: in.Body.Cells, Exact: true}}, nil
}

func cellsText(cells [week.Hours]bool) string {
	text := make([]byte, len(cells))
	for i, on := range cells {
		text[i] = '0'
		if on {
			text[i] = '1'
		}
	}
	return string(text)
}

type timesInput struct {
	Body contract.When
}

func (s *Server) listTimes(_ context.Context, in *timesInput) (*body[contract.Times], error) {
	const most = 5
	times, zone, err := s.Runner.Times(in.Body, time.Now(), most)
	if err != nil {
		return nil, runner.NewInputError(err)
	}
	return &body[contract.Times]{contract.Times{Times: times, Zone: zone}}, nil
}
