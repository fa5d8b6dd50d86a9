package client_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"path/filepath"
	"strings"
	"testing/fstest"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/provider/folder"
	"deftheron/service"
)

// example runs a service on a new data folder, with two linked folders, /desk with two files and
// /archive, and returns a client of it. Programs have a service already, and its URL and a token.
func example() (c *client.Client, stop func()) {
	work, err := os.MkdirTemp("", "heron-example")
	if err != nil {
		log.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	running, err := service.Start(ctx, service.Options{
		Data: filepath.Join(work, "data"), Listen: "127.0.0.1:0", Version: "1", Console: fstest.MapFS{},
		Providers: []store.Provider{&folder.Provider{}},
	})
	if err != nil {
		log.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- running.Serve(ctx) }()
	token, err := os.ReadFile(running.TokenFile)
	if err != nil {
		log.Fatal(err)
	}
	c = &client.Client{URL: running.URL, Token: strings.TrimSpace(string(token))}
	for _, name := range []string{"desk", "archive"} {
		path := filepath.Join(work, name)
		if err := os.Mkdir(path, 0o700); err != nil {
			log.Fatal(err)
		}
		if _, err := c.Link(ctx, contract.Link{Provider: "folder", Name: name, Options: map[string]string{"path": path}}); err != nil {
			log.Fatal(err)
		}
	}
	for name, content := range map[string]string{"levels.csv": "day,level\n1,12\n", "notes.txt": "The weir is open.\n"} {
		body := strings.NewReader(content)
		if _, err := c.Write(ctx, client.Upload{Address: "/desk/Surveys/" + name, Size: body.Size(), Body: body}); err != nil {
			log.Fatal(err)
		}
	}
	return c, func() {
		cancel()
		if err := <-ended; err != nil {
			log.Fatal(err)
		}
		if err := os.RemoveAll(work); err != nil {
			log.Fatal(err)
		}
	}
}

// List a folder of the tree.
func ExampleClient_List() {
	c, stop := example()
	defer stop()
	for entry, err := range c.List(context.Background(), "/desk/Surveys") {
		if err != nil {
			log.Fatal(err)
		}
		fmt.Println(entry.Kind, entry.Address, entry.Size)
	}
	// Output:
	// file /desk/Surveys/levels.csv 15
	// file /desk/Surveys/notes.txt 18
}

// Copy a folder, wait for the run, and count what it did.
func ExampleClient_Copy() {
	c, stop := example()
	defer stop()
	ctx := context.Background()
	started, err := c.Copy(ctx, contract.Copy{From: []string{"/desk/Surveys"}, To: "/archive"})
	if err != nil {
		log.Fatal(err)
	}
	run, err := c.Follow(ctx, started.Run, func(contract.Run) {}, nil)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(run.State, run.Items.Done, "items,", run.Bytes.Transferred, "bytes")
	// Output:
	// done 2 items, 33 bytes
}

// Plan a mirror, create it as a job, and start it.
func ExampleClient_CreateJob() {
	c, stop := example()
	defer stop()
	ctx := context.Background()
	spec := contract.JobSpec{Name: "surveys", Type: "mirror", Routes: []contract.Route{{From: "/desk/Surveys", To: "/archive/surveys"}},
		When: contract.When{Every: "6h"}}
	plan, err := c.PlanSpec(ctx, spec)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("to create:", plan.Create.Items)
	job, err := c.CreateJob(ctx, contract.NewJob{Spec: spec})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(job.Sentence)
	started, err := c.StartJob(ctx, job.Name)
	if err != nil {
		log.Fatal(err)
	}
	run, err := c.Follow(ctx, started.Run, func(contract.Run) {}, nil)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(run.State)
	// Output:
	// to create: 2
	// Makes /archive/surveys identical to /desk/Surveys. Files deleted at the source are moved to history at the target.
	// done
}

// Read a file from an offset on.
func ExampleClient_Read() {
	c, stop := example()
	defer stop()
	content, err := c.Read(context.Background(), "/desk/Surveys/notes.txt", 4)
	if err != nil {
		log.Fatal(err)
	}
	defer content.Close()
	text, err := io.ReadAll(content)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%d bytes: %s", content.Size, text)
	// Output:
	// 14 bytes: weir is open.
}

// Tell apart what is wrong.
func ExampleUnreachableError() {
	c, stop := example()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()

	_, err := c.Stat(ctx, "/desk/Surveis")
	var problem *contract.Problem
	if errors.As(err, &problem) {
		fmt.Println(problem.Status, problem.Cause)
	}

	nobody := client.Client{URL: "http://127.0.0.1:1"}
	_, err = nobody.Stat(ctx, "/desk")
	var unreachable *client.UnreachableError
	fmt.Println(errors.As(err, &unreachable))
	// Output:
	// 404 not-found
	// true
}
