package api

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/service/logging"
)

// TestInternalErrors says by an id which entry of the log tells what went wrong.
func TestInternalErrors(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	var log bytes.Buffer
	server := &Server{Log: slog.New(logging.Handler{Handler: slog.NewTextHandler(&log, nil)})}
	router := gin.New()
	router.Use(server.identify, server.recover)
	router.GET("/fails", func(*gin.Context) { panic("index out of bounds") })
	answer := httptest.NewRecorder()
	request := httptest.NewRequest("GET", "/fails", nil)
	request.Header.Set("traceparent", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
	router.ServeHTTP(answer, request)
	var problem contract.Problem
	if err := json.Unmarshal(answer.Body.Bytes(), &problem); err != nil || answer.Code != 500 || len(problem.ErrorID) < 8 {
		t.Fatalf("%d %s, %v", answer.Code, answer.Body, err)
	}
	if !strings.Contains(problem.Detail, problem.ErrorID) || strings.Contains(answer.Body.String(), "index out of bounds") {
		t.Errorf("%s; want it to say the id alone", answer.Body)
	}
	if id := answer.Header().Get("X-Request-Id"); id != problem.ErrorID {
		t.Errorf("the request is %q in its answer, and %q in its problem", id, problem.ErrorID)
	}
	for _, want := range []string{"request=" + problem.ErrorID, "trace=4bf92f3577b34da6a3ce929d0e0e4736 parent=00f067aa0ba902b7",
		"index out of bounds", "recover_test.go", "/fails"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("the log does not say %q: %s", want, log.String())
		}
	}
}
