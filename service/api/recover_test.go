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
)

// TestInternalErrors says by an id which entry of the log tells what went wrong.
func TestInternalErrors(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	var log bytes.Buffer
	server := &Server{Log: slog.New(slog.NewTextHandler(&log, nil))}
	router := gin.New()
	router.Use(server.recover)
	router.GET("/fails", func(*gin.Context) { panic("index out of bounds") })
	answer := httptest.NewRecorder()
	router.ServeHTTP(answer, httptest.NewRequest("GET", "/fails", nil))
	var problem contract.Problem
	if err := json.Unmarshal(answer.Body.Bytes(), &problem); err != nil || answer.Code != 500 || len(problem.ErrorID) < 8 {
		t.Fatalf("%d %s, %v", answer.Code, answer.Body, err)
	}
	if !strings.Contains(problem.Detail, problem.ErrorID) || strings.Contains(answer.Body.String(), "index out of bounds") {
		t.Errorf("%s; want it to say the id alone", answer.Body)
	}
	for _, want := range []string{problem.ErrorID, "index out of bounds", "recover_test.go", "/fails"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("the log does not say %q: %s", want, log.String())
		}
	}
}
