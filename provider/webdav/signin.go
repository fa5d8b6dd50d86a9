package webdav

import (
	"net/http"
	"strings"
	"sync"

	"github.com/icholy/digest"
)

// signin answers a server's challenges, by Digest (RFC 7616) where it is
// offered, else by Basic (RFC 7617). Nothing is sent before a server asked.
type signin struct {
	user, password string

	mu        sync.Mutex
	challenge *digest.Challenge
	count     int
	basic     bool
}

// learn takes the challenges of a 401 and reports whether they ask for
// something that the request has not given: a sign-in at all, or one with
// another nonce. The caller bounds how often it tries again.
func (s *signin) learn(response *http.Response, sent string) bool {
	if s.user == "" {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if challenge := digestOf(response.Header); challenge != nil {
		s.challenge, s.count = challenge, 0
		return !strings.Contains(sent, challenge.Nonce)
	}
	for _, value := range response.Header.Values("WWW-Authenticate") {
		if scheme, _, _ := strings.Cut(value, " "); strings.EqualFold(scheme, "basic") {
			s.basic = true
			return !strings.HasPrefix(sent, "Basic ")
		}
	}
	return false
}

// digestOf is the challenge of an algorithm that is known here, nil where there
// is none.
func digestOf(header http.Header) *digest.Challenge {
	for _, value := range header.Values("WWW-Authenticate") {
		challenge, err := digest.ParseChallenge(value)
		if err == nil && digest.CanDigest(challenge) {
			return challenge
		}
	}
	return nil
}

// sign adds what the server asked for to a request.
func (s *signin) sign(request *http.Request) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.challenge != nil:
		s.count++
		credentials, err := digest.Digest(s.challenge, digest.Options{
			Method: request.Method, URI: request.URL.RequestURI(), Username: s.user, Password: s.password, Count: s.count,
		})
		if err != nil {
			return err
		}
		request.Header.Set("Authorization", credentials.String())
	case s.basic:
		request.SetBasicAuth(s.user, s.password)
	}
	return nil
}
