package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/service/gateway"
)

// Whoever asks, with or without a sign-in, is bounded: in the size of a request, in the
// time that it takes, and in how many streams stand open.

const (
	// bodyTime is how long the body of a request may take, and quietTime how long a
	// content may stand still, in either direction.
	bodyTime  = 10 * time.Second
	quietTime = time.Minute
	// mostStreams and mostStreamsEach are how many event streams there may be, over
	// all and for one sign-in.
	mostStreams, mostStreamsEach = 256, 32
	// mostDetails is how many of a request's mistakes are named, and longestPlace how
	// much of the place of each.
	mostDetails, longestPlace = 5, 80
)

// bound gives the body of a request its time. Content may take longer, as long as it
// moves on.
func (s *Server) bound(c *gin.Context) {
	if c.Request.ContentLength != 0 && c.Request.URL.Path != contract.WorkerAnswerPath { // which has times of its own
		c.Request.Body = &timed{ReadCloser: c.Request.Body, control: http.NewResponseController(c.Writer), header: c.Writer.Header(),
			content: isContent(c.Request)}
	}
}

// mostExchanges is how many sign-ins go on at once: the requests with a body that ask for no
// sign-in.
const mostExchanges = 32

// exchanging holds sign-ins to so many at once.
func (s *Server) exchanging(c *gin.Context) {
	if !strings.HasPrefix(c.Request.URL.Path, contract.Root+"/session") || c.Request.Method != http.MethodPost {
		return
	}
	defer s.exchanges.Add(-1)
	if s.exchanges.Add(1) > mostExchanges {
		refuse(c, tooMany())
		return
	}
	c.Next()
}

func tooMany() *contract.Problem {
	return &contract.Problem{Status: http.StatusTooManyRequests, Detail: "Too many sign-ins at the same time.",
		Remedy: "Try again in a minute."}
}

// isContent reports whether a request brings content of any size.
func isContent(r *http.Request) bool {
	return r.Method == http.MethodPut && (r.URL.Path == contract.Root+"/content" || strings.HasPrefix(r.URL.Path, gateway.Prefix+"/")) ||
		r.Method == http.MethodPost && strings.HasPrefix(r.URL.Path, SharePath)
}

// timed is a body that has to come in time. The deadline is lifted once it is there:
// the server would take it for the end of the connection while the request is worked on.
type timed struct {
	io.ReadCloser
	control *http.ResponseController
	header  http.Header // of the answer
	content bool
	begun   bool
	ended   bool
}

func (t *timed) Read(p []byte) (int, error) {
	switch {
	case t.content:
		_ = t.control.SetReadDeadline(time.Now().Add(quietTime))
	case !t.begun:
		_ = t.control.SetReadDeadline(time.Now().Add(bodyTime))
	}
	t.begun = true
	n, err := t.ReadCloser.Read(p)
	switch err {
	case nil:
	case io.EOF:
		t.ended = true
		_ = t.control.SetReadDeadline(time.Time{})
	default: // the rest is not waited for
		t.header.Set("Connection", "close")
	}
	return n, err
}

// flowing is an answer that may take any time as long as the client reads it. It ends with
// the context of its request, whatever its source: a link or a sign-in may be revoked.
type flowing struct {
	gin.ResponseWriter
	control *http.ResponseController
	request *gin.Context
}

func (f *flowing) Write(p []byte) (int, error) {
	if err := f.request.Request.Context().Err(); err != nil {
		return 0, err
	}
	_ = f.control.SetWriteDeadline(time.Now().Add(quietTime))
	return f.ResponseWriter.Write(p)
}

// flowBuffers are what contents go through, one for each answer.
var flowBuffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// ReadFrom implements io.ReaderFrom, in larger pieces than io.Copy takes.
func (f *flowing) ReadFrom(from io.Reader) (int64, error) {
	buffer := flowBuffers.Get().(*[]byte)
	defer flowBuffers.Put(buffer)
	return io.CopyBuffer(struct{ io.Writer }{f}, struct{ io.Reader }{from}, *buffer)
}

// Unwrap is for http.ResponseController.
func (f *flowing) Unwrap() http.ResponseWriter { return f.ResponseWriter }

// flow holds an answer to being taken.
func (s *Server) flow(c *gin.Context) {
	c.Writer = &flowing{c.Writer, http.NewResponseController(c.Writer), c}
}

// streams counts the event streams that stand open.
type streams struct {
	mu   sync.Mutex
	all  int
	each map[string]int
}

// open counts a stream of a sign-in; false where there are too many.
func (s *streams) open(who string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= mostStreams || s.each[who] >= mostStreamsEach {
		return false
	}
	if s.each == nil {
		s.each = map[string]int{}
	}
	s.all++
	s.each[who]++
	return true
}

func (s *streams) close(who string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.each[who]--; s.each[who] == 0 {
		delete(s.each, who)
	}
}

// endWithSignIn cancels a request when its sign-in ends.
func (s *Server) endWithSignIn(c *gin.Context, tokenID string) (stop func()) {
	ctx, cancel := context.WithCancel(c.Request.Context())
	c.Request = c.Request.WithContext(ctx)
	forget := s.Access.OnEnd(tokenID, cancel)
	return func() {
		forget()
		cancel()
	}
}

// mistakes says what is wrong with a request: the places and reasons, but never the values,
// which may be secret or very long.
func mistakes(message string, errs []error) string {
	var named []string
	for _, err := range errs {
		if len(named) == mostDetails {
			named = append(named, fmt.Sprintf("and %d more", len(errs)-mostDetails))
			break
		}
		var detail *huma.ErrorDetail
		switch {
		case !errors.As(err, &detail):
			named = append(named, short(err.Error()))
		case detail.Location == "":
			named = append(named, short(detail.Message))
		default:
			named = append(named, short(detail.Location)+": "+short(detail.Message))
		}
	}
	if len(named) == 0 {
		return short(message)
	}
	return short(message) + ": " + strings.Join(named, "; ")
}

// short is a text, cut where it is too long.
func short(text string) string {
	if len(text) <= 2*longestPlace {
		return text
	}
	return strings.ToValidUTF8(text[:longestPlace], "") + "…" + strings.ToValidUTF8(text[len(text)-longestPlace/2:], "")
}
