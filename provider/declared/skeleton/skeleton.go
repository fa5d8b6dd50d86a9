// Package skeleton has the text that a provider definition begins with.
package skeleton

import (
	_ "embed"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"deftheron/core/remedy"
)

//go:embed skeleton.yaml.tmpl
var text string

// Named matches the valid names of providers.
var Named = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

var styles = map[string]string{
	"path-in-address": "for a service that takes the path of an entry in the address",
	"path-in-query":   "for a service that takes the path of an entry as a parameter of the query",
	"path-in-body":    "for a service that takes the path of an entry in a JSON body",
	"ids":             "for a service that takes the id of an entry",
}

// Styles returns the ways in which requests identify entries, sorted.
func Styles() []string { return slices.Sorted(maps.Keys(styles)) }

// Text is a commented definition of the style, for a provider of the name.
func Text(style, name string) (string, error) {
	about, ok := styles[style]
	if !ok {
		return "", remedy.Errorf("%q is not a style; take one of %s", style, strings.Join(Styles(), ", "))
	}
	if !Named.MatchString(name) {
		return "", fmt.Errorf("%q cannot be a provider's name: use 1 to 40 lower-case letters, digits and hyphens, a letter first", name)
	}
	parsed, err := template.New("").Parse(text)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	err = parsed.Execute(&b, struct{ Style, About, Name string }{style, about, name})
	return b.String(), err
}
