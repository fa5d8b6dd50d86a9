// Command heron is Deft Heron: the service, its commands and its demo.
package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"

	"deftheron/cli"
	"deftheron/console"
	"deftheron/core/store"
	"deftheron/demo"
	"deftheron/provider/folder"
	"deftheron/provider/s3"
	"deftheron/provider/webdav"
	"deftheron/service"
)

var version = "0.1.0"

// providers are the kinds of places that this program knows.
func providers() []store.Provider {
	return []store.Provider{folder.Provider{}, webdav.Provider{}, s3.Provider{}}
}

func main() {
	os.Exit(cli.Main(cli.Programs{Version: version, Serve: serve, Demo: runDemo}, os.Args[1:]))
}

func serve(ctx context.Context, options cli.ServeOptions) error {
	log, err := logger(options, os.Stderr)
	if err != nil {
		return err
	}
	s, err := service.Start(ctx, service.Options{
		Data: options.Data, Listen: options.Listen, TLSCert: options.TLSCert, TLSKey: options.TLSKey, Hosts: options.Hosts,
		KeyFile: os.Getenv("HERON_KEY_FILE"), ForgetSecrets: options.ForgetSecrets,
		Providers: providers(), Console: console.Files(), Log: log, Version: version,
	})
	if err != nil {
		return err
	}
	if len(s.Forgotten) > 0 {
		fmt.Fprintf(options.Out, "The secrets of %s were forgotten. Unlink and link each again with its secret.\n", strings.Join(s.Forgotten, ", "))
	}
	fmt.Fprintf(options.Out, "Deft Heron %s is at %s\n", version, s.URL)
	fmt.Fprintf(options.Out, "Console (this link signs in once, within 15 minutes): %s\n", s.SigninURL)
	fmt.Fprintf(options.Out, "Commands: HERON_URL=%s HERON_TOKEN=$(cat %s) heron ls\n", s.URL, s.TokenFile)
	return s.Serve(ctx)
}

func logger(options cli.ServeOptions, w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(options.LogLevel)); err != nil {
		return nil, fmt.Errorf("--log-level %q is none; use debug, info, warn or error", options.LogLevel)
	}
	handlerOptions := &slog.HandlerOptions{Level: level}
	switch options.LogFormat {
	case "text":
		return slog.New(slog.NewTextHandler(w, handlerOptions)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, handlerOptions)), nil
	}
	return nil, fmt.Errorf("--log-format %q is none; use text or json", options.LogFormat)
}

func runDemo(ctx context.Context, options cli.DemoOptions) error {
	return demo.Run(ctx, demo.Options{
		Data: options.Data, Listen: options.Listen, Exit: options.Exit, Out: options.Out, Follow: options.Follow,
		Providers: providers(), Console: console.Files(), Version: version,
	})
}
