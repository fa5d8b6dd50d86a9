package api

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
)

// slow is an answer that is written late, so that whatever ends the request comes first.
type slow struct {
	gin.ResponseWriter
	request *http.Request
}

func (s slow) Write(p []byte) (int, error) {
	select {
	case <-s.request.Context().Done():
	case <-time.After(100 * time.Millisecond):
	}
	return s.ResponseWriter.Write(p)
}

// Unwrap is for http.ResponseController.
func (s slow) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// TestRefusedWithWords refuses requests whose body was read whole, in part, and not at all:
// the words come through each time.
func TestRefusedWithWords(t *testing.T) {
	s := &Server{}
	router := gin.New()
	router.POST("/:read", s.bound, s.flow, func(c *gin.Context) {
		switch c.Param("read") {
		case "whole":
			_, _ = io.Copy(io.Discard, c.Request.Body)
		case "part":
			_, _ = io.CopyN(io.Discard, c.Request.Body, 2)
		}
		c.Writer = slow{c.Writer, c.Request}
		refuse(c, &contract.Problem{Status: http.StatusUnprocessableEntity, Detail: "Refused with words."})
	})
	server := httptest.NewServer(router)
	t.Cleanup(server.Close)
	for _, read := range []string{"whole", "part", "none"} {
		response, err := http.Post(server.URL+"/"+read, "application/json", strings.NewReader(`{"passphrase":"weir"}`))
		if err != nil {
			t.Fatalf("%s: %v", read, err)
		}
		data, err := io.ReadAll(response.Body)
		response.Body.Close()
		if err != nil || !strings.Contains(string(data), "Refused with words.") {
			t.Errorf("%s: %s, %q, %v", read, response.Status, data, err)
		}
	}
}
