// Package tools pins the programs that tests run against, and the linter, in a module
// of its own, so that the program's own dependencies stay its own.
package tools
