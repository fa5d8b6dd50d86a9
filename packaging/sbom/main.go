// Command sbom writes the bill of materials of a built program in CycloneDX 1.5: the Go modules in
// it, as the program itself says, and the npm packages of the console.
package main

import (
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"

	cyclonedx "github.com/CycloneDX/cyclonedx-go"
)

func main() {
	if len(os.Args) != 5 {
		fmt.Fprintln(os.Stderr, "usage: sbom PROGRAM PACKAGE-LOCK VERSION OUT")
		os.Exit(2)
	}
	if err := write(os.Args[1], os.Args[2], os.Args[3], os.Args[4]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(program, lock, version, out string) error {
	components, err := modules(program)
	if err != nil {
		return err
	}
	packages, err := packagesOf(lock)
	if err != nil {
		return err
	}
	components = append(components, packages...)
	bom := cyclonedx.NewBOM()
	bom.Metadata = &cyclonedx.Metadata{Component: &cyclonedx.Component{
		BOMRef: "heron", Type: cyclonedx.ComponentTypeApplication, Name: "heron", Version: version,
	}}
	bom.Components = &components
	file, err := os.Create(out)
	if err != nil {
		return err
	}
	defer file.Close()
	return cyclonedx.NewBOMEncoder(file, cyclonedx.BOMFileFormatJSON).SetPretty(true).EncodeVersion(bom, cyclonedx.SpecVersion1_5)
}

// modules are the Go modules in a program, and Go itself.
func modules(program string) ([]cyclonedx.Component, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, fmt.Errorf("read the modules of %s: %w", program, err)
	}
	all := []cyclonedx.Component{component("pkg:golang/std@"+strings.TrimPrefix(info.GoVersion, "go"), "std", info.GoVersion)}
	for _, module := range info.Deps {
		if module.Replace != nil {
			module = module.Replace
		}
		all = append(all, component("pkg:golang/"+module.Path+"@"+module.Version, module.Path, module.Version))
	}
	return all, nil
}

func component(url, name, version string) cyclonedx.Component {
	return cyclonedx.Component{BOMRef: url, Type: cyclonedx.ComponentTypeLibrary, Name: name, Version: version, PackageURL: url}
}

// packagesOf are the npm packages of a lock file that are built into the console.
func packagesOf(lock string) (all []cyclonedx.Component, err error) {
	data, err := os.ReadFile(lock)
	if err != nil {
		return nil, err
	}
	var read struct {
		Packages map[string]struct {
			Version  string `json:"version"`
			Dev      bool   `json:"dev"`
			Optional bool   `json:"optional"`
		} `json:"packages"`
	}
	if err := json.Unmarshal(data, &read); err != nil {
		return nil, fmt.Errorf("read %s: %w", lock, err)
	}
	seen := map[string]bool{}
	for path, one := range read.Packages {
		at := strings.LastIndex(path, "node_modules/")
		if at < 0 || one.Dev || one.Optional {
			continue
		}
		name := path[at+len("node_modules/"):]
		url := "pkg:npm/" + strings.ReplaceAll(name, "@", "%40") + "@" + one.Version
		if !seen[url] {
			seen[url] = true
			all = append(all, component(url, name, one.Version))
		}
	}
	slices.SortFunc(all, func(a, b cyclonedx.Component) int { return strings.Compare(a.BOMRef, b.BOMRef) })
	return all, nil
}
