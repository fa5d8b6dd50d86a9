package declared

import (
	"strings"

	"deftheron/core/store"
)

// SecretOrigins implements store.Originator: the base, further origins, and the addresses
// that issue and revoke tokens. Origins that depend on the account, which is known only
// after a sign-in, are returned as they are in the definition.
func (p *Provider) SecretOrigins(options map[string]string) (origins []string) {
	add := func(template Template) {
		if template.Template == nil {
			return
		}
		origins = append(origins, store.OriginOf(template.Expand(func(name string) any {
			option, ok := strings.CutPrefix(name, "option.")
			if !ok {
				return "(" + name + ")"
			}
			if value, given := options[option]; given {
				return value
			}
			for _, known := range p.Definition().Options {
				if known.Name == option {
					return known.Default
				}
			}
			return ""
		})))
	}
	add(p.Definition().Base)
	for _, further := range p.Definition().Origins {
		add(further)
	}
	for _, way := range p.Definition().SignIn {
		add(way.Token)
		add(way.Device)
		add(way.Revoke)
	}
	return origins
}
