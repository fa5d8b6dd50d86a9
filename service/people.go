package service

import (
	"net/http"

	"deftheron/service/access"
	"deftheron/service/api"
)

// people has runs held to what the users see in whose name they go, and users see what they link.
func (s *Service) people(who *access.Access) {
	s.runner.ScopeOf = who.ScopeOf
	who.Regranted = s.runner.Regranted
	s.linked.LinkedBy = who.GrantLinked
	changed := s.linked.Changed
	s.linked.Changed = func() {
		who.Forget() // grants are of accounts by their names
		changed()
	}
}

// openID returns how users sign in through a provider; nil if there is none.
func (s *Service) openID(who *access.Access) (*access.OpenID, error) {
	options := s.options.OpenID
	if options.Issuer == "" {
		return nil, nil
	}
	options.Callback = s.URL + api.ProviderCallbackPath
	if s.options.PublicURL != "" {
		options.Callback = s.options.PublicURL + api.ProviderCallbackPath
	}
	if s.linked.Proxy != nil { // the way out of a company's network
		transport := http.DefaultTransport.(*http.Transport).Clone()
		transport.Proxy = s.linked.Proxy
		options.HTTP = &http.Client{Transport: transport}
	}
	return access.NewOpenID(who, options)
}
