package declared

import (
	"embed"
	"io/fs"
	"path"
)

//go:embed definitions/*.yaml
var definitions embed.FS

// Shipped returns the providers of the definitions that are part of the program,
// by name.
func Shipped() ([]*Provider, error) {
	files, err := fs.Glob(definitions, "definitions/*.yaml")
	if err != nil {
		return nil, err
	}
	var all []*Provider
	for _, file := range files {
		text, err := fs.ReadFile(definitions, file)
		if err != nil {
			return nil, err
		}
		definition, err := Load(path.Base(file), text)
		if err != nil {
			return nil, err
		}
		definition.Shipped = true
		all = append(all, New(definition))
	}
	return all, nil
}
