package api

import (
	"context"
	"errors"
	"net/http"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/plan"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/messages"
	"deftheron/service/records"
	"deftheron/service/runner"
)

func init() {
	// Lists are never null in what the service sends.
	huma.DefaultArrayNullable = false
	// The library's one place to say what its own errors look like.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		problem := &contract.Problem{Title: http.StatusText(status), Status: status, Detail: contract.Sentence(mistakes(message, errs))}
		if status == http.StatusUnprocessableEntity {
			problem.Remedy = "Correct the request; " + contract.Root + "/openapi.json describes it."
		}
		return problem
	}
}

// problem turns an error into a text for people: what is wrong, and what to do. An
// error without a remedy of its own gets that of its cause.
func problem(err error) *contract.Problem {
	var known *contract.Problem
	if errors.As(err, &known) {
		return known
	}
	wrong, advice := remedy.Of(err)
	p := &contract.Problem{Status: status(err), Detail: contract.Sentence(wrong), Remedy: contract.Sentence(advice),
		Commands: messages.CommandsOf(err)}
	p.Title = http.StatusText(p.Status)
	p.Options = store.OptionsOf(err)
	switch kind := store.KindOf(err); kind {
	case nil:
	case store.ErrNotFound:
		p.Cause = "not-found"
	default:
		cause := plan.CauseOf(err)
		p.Cause = string(cause)
		if p.Remedy == "" {
			p.Remedy, p.Commands = messages.RemedyOf(cause, messages.Subject{})
		}
	}
	return p
}

func status(err error) int {
	var option *store.OptionError
	var input *runner.InputError
	switch kind := store.KindOf(err); {
	case errors.Is(err, records.ErrNotFound), kind == store.ErrNotFound:
		return http.StatusNotFound
	case errors.Is(err, context.Canceled):
		return 499
	case errors.As(err, &option), errors.As(err, &input), kind == nil:
		return http.StatusUnprocessableEntity
	case kind == store.ErrExists, kind == store.ErrChanged, kind == store.ErrRefused, kind == store.ErrNameRefused:
		return http.StatusConflict
	case kind == store.ErrLocked:
		return http.StatusLocked
	}
	return http.StatusBadGateway
}

// refuse ends a request with a problem.
func refuse(c *gin.Context, p *contract.Problem) {
	if p.Title == "" {
		p.Title = http.StatusText(p.Status)
	}
	c.Abort()
	if body, ok := c.Request.Body.(*timed); ok && !body.ended { // what is left of the request is not waited for
		c.Header("Connection", "close")
		_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now())
	}
	c.Header("Content-Type", p.ContentType(""))
	c.JSON(p.Status, p)
}

func typeOf(value any) reflect.Type { return reflect.TypeOf(value) }
