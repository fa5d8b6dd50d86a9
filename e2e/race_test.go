//go:build race

package e2e

// Where the tests look for races, so does the program that they drive.
func init() { buildFlags = append(buildFlags, "-race") }
