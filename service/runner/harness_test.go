package runner_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/provider/folder"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/live"
	"deftheron/service/records"
	"deftheron/service/runner"
)

// office is a service's inner part, with folders of the disk as its accounts.
type office struct {
	t        *testing.T
	data     string
	db       *records.DB
	accounts *accounts.Accounts
	runner   *runner.Runner
	close    func()
}

// newOffice starts on what a data folder holds.
func newOffice(t *testing.T, data string) *office {
	t.Helper()
	o := &office{t: t, data: data}
	var err error
	if o.db, err = records.Open(data); err != nil {
		t.Fatal(err)
	}
	sealer, err := access.OpenKey(t.Context(), o.db, data, "", false)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	o.accounts = accounts.New(o.db, sealer, []store.Provider{folder.Provider{}}, log)
	ctx, cancel := context.WithCancel(context.Background())
	o.runner = runner.New(ctx, o.db, o.accounts, &tree.Tree{Accounts: o.accounts}, live.NewHub(), log)
	o.accounts.WithRunsPaused = o.runner.WithRunsPaused
	if err := o.runner.Resume(); err != nil {
		t.Fatal(err)
	}
	closed := false
	o.close = func() {
		if !closed {
			closed = true
			cancel()
			o.runner.Wait()
			o.db.Close()
		}
	}
	t.Cleanup(o.close)
	return o
}

// link links a folder of the disk.
func (o *office) link(name, path string) {
	o.t.Helper()
	if _, _, err := o.accounts.Add(o.t.Context(),
		accounts.Link{Provider: "folder", Name: name, Options: map[string]string{"path": path}}); err != nil {
		o.t.Fatal(err)
	}
}

// run waits until a run has ended, or is held.
func (o *office) run(started contract.Started, err error) contract.Run {
	o.t.Helper()
	if err != nil {
		o.t.Fatal(err)
	}
	deadline := time.Now().Add(30 * time.Second)
	for {
		run, err := o.runner.Run(o.t.Context(), started.Run)
		if err != nil {
			o.t.Fatal(err)
		}
		if run.Ended != nil || run.State == "held" {
			return run
		}
		if time.Now().After(deadline) {
			o.t.Fatalf("the run %s is %s (%s)", run.ID, run.State, run.Why)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// job makes a job of one route.
func (o *office) job(name, kind, from, to string, change func(*contract.JobSpec)) {
	o.t.Helper()
	spec := contract.JobSpec{Name: name, Type: kind, Routes: []contract.Route{{From: from, To: to}}}
	if change != nil {
		change(&spec)
	}
	if _, err := o.runner.CreateJob(o.t.Context(), contract.NewJob{Spec: spec}); err != nil {
		o.t.Fatal(err)
	}
}

// start runs a job to its end.
func (o *office) start(name string) contract.Run {
	o.t.Helper()
	return o.run(o.runner.StartJob(o.t.Context(), name, ""))
}

// put writes files below a folder of the disk, by their paths.
func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// numbered are so many files of one size.
func numbered(n int, prefix string) map[string]string {
	files := map[string]string{}
	for i := range n {
		files[fmt.Sprintf("%d/%04d.txt", i%7, i)] = fmt.Sprintf("%s %06d", prefix, i)
	}
	return files
}

// holds returns what is below a folder of the disk, without what is ours.
func holds(t *testing.T, dir string) map[string]string {
	t.Helper()
	files := map[string]string{}
	err := filepath.WalkDir(dir, func(path string, entry os.DirEntry, err error) error {
		rest, _ := filepath.Rel(dir, path)
		if err != nil || entry.IsDir() {
			if entry != nil && entry.Name() == store.OwnFolder {
				return filepath.SkipDir
			}
			return err
		}
		content, err := os.ReadFile(path)
		files[rest] = string(content)
		return err
	})
	if err != nil && !os.IsNotExist(err) {
		t.Fatal(err)
	}
	return files
}

func below(files map[string]string, folder string) map[string]string {
	in := map[string]string{}
	for name, content := range files {
		if rest, ok := strings.CutPrefix(name, folder+"/"); ok {
			in[rest] = content
		}
	}
	return in
}
