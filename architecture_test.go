// Package deftheron holds the house to its plan: which package may import which, and how
// long a file and a function may be. docs/architecture.md has the plan.
package deftheron

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// arrows are the packages of ours that those of a folder may import, tests aside.
var arrows = map[string][]string{
	"core": {"core"},
	"provider": {"provider", "core/store", "core/gate", "core/publish", "core/retry", "core/listing", "core/pinning", "core/view",
		"core/spill", "core/remedy", "core/sealed", "core/unit"},
	"service":    {"service", "core", "provider", "contract", "console"},
	"contract":   {"contract", "core/job", "core/run"},
	"client":     {"client", "contract", "core/store", "core/remedy"}, // for the grammar of addresses
	"drive":      {"drive", "client", "core/remedy"},
	"cli":        {"cli", "client", "contract", "drive", "core/job", "core/remedy"},
	"standin":    {"standin"},
	"demo":       {"demo", "standin", "client", "contract", "cli", "service", "core/store"},
	"worker":     {"worker", "core", "provider", "client", "contract"},
	"cmd":        {"cli", "service", "worker", "demo", "standin", "provider", "console", "core/store"}, // it wires them together
	"console":    {},
	"servertest": {"servertest", "core"},
}

func TestArrows(t *testing.T) {
	eachFile(t, func(path string, file *ast.File, _ *token.FileSet) {
		folder := filepath.ToSlash(filepath.Dir(path))
		top, _, _ := strings.Cut(folder, "/")
		may, known := arrows[top]
		if !known {
			return
		}
		for _, one := range file.Imports {
			imported, _ := strconv.Unquote(one.Path.Value)
			ours, is := strings.CutPrefix(imported, "deftheron/")
			if is && !slices.ContainsFunc(may, func(m string) bool { return ours == m || strings.HasPrefix(ours, m+"/") }) {
				t.Errorf("%s imports %s", path, imported)
			}
		}
	})
}

// TestNames refuses packages whose names say nothing.
func TestNames(t *testing.T) {
	eachFile(t, func(path string, file *ast.File, _ *token.FileSet) {
		if slices.Contains([]string{"util", "utils", "common", "helpers", "types", "models", "misc"}, file.Name.Name) {
			t.Errorf("%s is of the package %s", path, file.Name.Name)
		}
	})
}

// TestLengths holds files of core and service to 400 lines, and functions to 70.
func TestLengths(t *testing.T) {
	const longestFile, longestFunction = 400, 70
	eachFile(t, func(path string, file *ast.File, files *token.FileSet) {
		if !strings.HasPrefix(path, "core/") && !strings.HasPrefix(path, "service/") {
			return
		}
		if lines := files.Position(file.End()).Line; lines > longestFile {
			t.Errorf("%s has %d lines", path, lines)
		}
		for _, declared := range file.Decls {
			function, ok := declared.(*ast.FuncDecl)
			if !ok {
				continue
			}
			if lines := files.Position(function.End()).Line - files.Position(function.Pos()).Line + 1; lines > longestFunction {
				t.Errorf("%s: %s has %d lines", path, function.Name.Name, lines)
			}
		}
	})
}

// clientWords are those of one client: options and commands of the terminal.
var clientWords = regexp.MustCompile(`--[a-z]|\bheron (account|bandwidth|cat|compare|copy|get|job|ls|mkdir|mv|notify|provider|put|rm|run|serve|signin|stat|survey)\b`)

// TestClientWords has core and providers name no command and no option: service/messages and
// the clients have the words for what a person can do.
func TestClientWords(t *testing.T) {
	eachFile(t, func(path string, file *ast.File, files *token.FileSet) {
		if !strings.HasPrefix(path, "core/") && !strings.HasPrefix(path, "provider/") {
			return
		}
		ast.Inspect(file, func(node ast.Node) bool {
			text, ok := node.(*ast.BasicLit)
			if ok && text.Kind == token.STRING && clientWords.MatchString(text.Value) {
				t.Errorf("%s names what only a terminal has: %s", files.Position(text.Pos()), text.Value)
			}
			return true
		})
	})
}

// eachFile calls do with each file of ours that is no test.
func eachFile(t *testing.T, do func(path string, file *ast.File, files *token.FileSet)) {
	t.Helper()
	files, seen := token.NewFileSet(), 0
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (strings.HasPrefix(entry.Name(), ".") && path != "." || entry.Name() == "node_modules") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(files, path, nil, 0)
		if err == nil {
			seen++
			do(filepath.ToSlash(path), file, files)
		}
		return err
	})
	if err != nil || seen < 200 {
		t.Errorf("%d files were seen, %v", seen, err)
	}
}

// topFolder is what lies in the folder of the module.
var topFolder = strings.Fields(`.ci .gitignore .golangci.yml CHANGELOG.md CONTRIBUTING.md LICENSE Makefile README.md architecture_test.go bench
	cli client cmd console contract core demo docs drive e2e go.mod go.sum packaging provider servertest service standin tools worker`)

// TestTopFolder finds files that were committed by mistake: what is not known in the top folder, and what is
// larger than a picture.
func TestTopFolder(t *testing.T) {
	const largest = 1 << 20
	listed, err := exec.Command("git", "ls-files", "-z").Output()
	if err != nil {
		t.Skipf("this is no checkout: %v", err)
	}
	for _, path := range strings.Split(strings.TrimSuffix(string(listed), "\x00"), "\x00") {
		top, _, _ := strings.Cut(path, "/")
		if !slices.Contains(topFolder, top) {
			t.Errorf("%s lies in the top folder", path)
		}
		if about, err := os.Stat(path); err == nil && about.Size() > largest {
			t.Errorf("%s has %d bytes", path, about.Size())
		}
	}
}

// TestAttacksAreTried finds each test that docs/attacks.md names, in the folder that it
// names after it.
func TestAttacksAreTried(t *testing.T) {
	text, err := os.ReadFile("docs/attacks.md")
	if err != nil {
		t.Fatal(err)
	}
	row := regexp.MustCompile("((?:`Test[A-Za-z0-9]+`(?:, )?)+) in `([a-z0-9/]+)`")
	tried := 0
	for _, found := range row.FindAllStringSubmatch(string(text), -1) {
		files, err := filepath.Glob(filepath.Join(found[2], "*_test.go"))
		if err != nil || len(files) == 0 {
			t.Fatalf("no tests in %s (%v)", found[2], err)
		}
		var all []byte
		for _, file := range files {
			source, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, source...)
		}
		for _, name := range regexp.MustCompile("Test[A-Za-z0-9]+").FindAllString(found[1], -1) {
			tried++
			if !strings.Contains(string(all), "\nfunc "+name+"(t *testing.T)") {
				t.Errorf("%s has no %s", found[2], name)
			}
		}
	}
	if tried < 35 {
		t.Errorf("only %d tests are named", tried)
	}
}
