package declared

import (
	"embed"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"sync"
)

//go:embed definitions/*.yaml
var definitions embed.FS

// Shipped returns the providers of the definitions that are part of the program,
// by name. Each is read when it is first needed: until then it costs nothing.
func Shipped() ([]*Provider, error) {
	files, err := fs.Glob(definitions, "definitions/*.yaml")
	if err != nil {
		return nil, err
	}
	var all []*Provider
	for _, file := range files {
		name := strings.TrimSuffix(path.Base(file), ".yaml")
		all = append(all, &Provider{name: name, load: sync.OnceValue(func() *Definition { return shipped(file, name) })})
	}
	return all, nil
}

// shipped reads a definition that is part of the program. One that is wrong is
// a mistake of its build, which a test finds.
func shipped(file, name string) *Definition {
	text, err := fs.ReadFile(definitions, file)
	if err != nil {
		panic(err)
	}
	definition, err := Load(path.Base(file), text)
	if err != nil {
		panic(err)
	}
	if definition.Name != name {
		panic(fmt.Sprintf("%s describes %s", file, definition.Name))
	}
	definition.Shipped = true
	return definition
}
