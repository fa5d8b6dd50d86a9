// Command heron is Deft Heron: the service, its commands and its demo.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"

	"golang.org/x/term"

	"deftheron/cli"
	"deftheron/console"
	"deftheron/core/store"
	"deftheron/demo"
	"deftheron/provider/declared"
	"deftheron/provider/declared/skeleton"
	"deftheron/provider/folder"
	"deftheron/provider/ftp"
	"deftheron/provider/s3"
	"deftheron/provider/sealed"
	"deftheron/provider/sftp"
	"deftheron/provider/smb"
	"deftheron/provider/webdav"
	"deftheron/service"
	"deftheron/service/access"
	"deftheron/service/preview"
	"deftheron/service/workers"
	"deftheron/standin"
)

// providers are the kinds of places that this program knows.
func providers() ([]store.Provider, error) {
	all := []store.Provider{folder.Provider{}, webdav.Provider{}, s3.Provider{}, sftp.Provider{}, ftp.Provider{}, smb.Provider{},
		sealed.Provider{}}
	shipped, err := declared.Shipped()
	for _, provider := range shipped {
		all = append(all, provider)
	}
	return all, err
}

func main() {
	if len(os.Args) > 1 && os.Args[1] == preview.ChildArgument {
		os.Exit(preview.Child(os.Args[2:]))
	}
	os.Exit(cli.Main(cli.Programs{
		Build: builtFrom(), Serve: serve, Demo: runDemo, Standin: runStandin, Worker: runWorker, JoinWorker: joinWorker,
		Backup: openBackup, Skeleton: skeleton.Text, SkeletonStyles: skeleton.Styles(),
	}, os.Args[1:]))
}

func serve(ctx context.Context, options cli.ServeOptions) error {
	log, err := logger(options, os.Stderr)
	if err != nil {
		return err
	}
	all, err := providers()
	if err != nil {
		return err
	}
	openID, err := openIDOf(options.OpenID)
	if err != nil {
		return err
	}
	s, err := service.Start(ctx, service.Options{
		OpenID:  openID,
		Metrics: options.Metrics, Data: options.Data, Listen: options.Listen, TLSCert: options.TLSCert, TLSKey: options.TLSKey,
		Hosts:     options.Hosts,
		PublicURL: options.PublicURL, OutboundProxy: options.OutboundProxy,
		KeyFile: os.Getenv("HERON_KEY_FILE"), ForgetSecrets: options.ForgetSecrets, KeepHistory: options.KeepHistory,
		KeepItems: options.KeepItems, KeepAudit: options.KeepAudit, SearchSweep: options.SearchSweep,
		Folders: options.Folders, TakeOver: options.TakeOver,
		Cluster:   workers.Cluster{URL: options.NATS.URL, Credentials: options.NATS.Credentials, CAFile: options.NATS.CAFile},
		Providers: all, Console: console.Files(), Log: log, Version: release,
	})
	if err != nil {
		return err
	}
	if len(s.Forgotten) > 0 {
		fmt.Fprintf(options.Out, "The secrets of %s were forgotten. Unlink and link each again with its secret.\n",
			strings.Join(s.Forgotten, ", "))
	}
	fmt.Fprintf(options.Out, "Deft Heron %s is at %s\n", release, s.URL)
	if onTerminal(options.Out) { // not in a journal, which others may read
		fmt.Fprintf(options.Out, "Console (this link signs in once, within 15 minutes): %s\n", s.SigninURL)
	} else {
		fmt.Fprintln(options.Out, "Console: make a link that signs in once with heron signin --console")
	}
	fmt.Fprintf(options.Out, "Commands: HERON_URL=%s HERON_TOKEN=$(cat %s) heron ls\n", s.URL, s.TokenFile)
	return s.Serve(ctx)
}

// openIDOf reads how users sign in through an OpenID provider.
func openIDOf(given cli.OpenIDOptions) (options access.OpenIDOptions, err error) {
	if given.Issuer == "" {
		return options, nil
	}
	options = access.OpenIDOptions{Issuer: given.Issuer, Title: given.Title, ClientID: given.Client}
	if options.Roles, err = access.ParseRoles(given.Roles); err != nil || given.SecretFile == "" {
		return options, err
	}
	options.ClientSecret, err = access.ReadClientSecret(given.SecretFile)
	return options, err
}

// onTerminal reports whether what is written is seen on a terminal and kept nowhere.
func onTerminal(w io.Writer) bool {
	file, ok := w.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
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

func runStandin(ctx context.Context, options cli.StandinOptions) error {
	clouds, err := standin.StartClouds(options.Data, options.Sedge, options.Alder, options.Control)
	if err != nil {
		return err
	}
	_, signIn, err := clouds.StartSignIn(options.SignIn)
	if err != nil {
		return errors.Join(err, clouds.Close())
	}
	fmt.Fprintf(options.Out, "Sedge is at %s, Alder at %s, an OpenID provider at %s; the control address is %s\n", clouds.SedgeURL,
		clouds.AlderURL, signIn, clouds.ControlURL)
	fmt.Fprintf(options.Out, "Sign in through the provider with: heron serve --openid-issuer %s --openid-client %s --openid-secret-file FILE "+
		"--openid-role surveys=operator (the secret is %s)\n", signIn, standin.SignInClient, standin.SignInSecret)
	fmt.Fprintln(options.Out, "Link accounts there with: heron account link sedge NAME, heron account link alder NAME")
	return errors.Join(clouds.Wait(ctx), clouds.Close())
}

func runDemo(ctx context.Context, options cli.DemoOptions) error {
	all, err := providers()
	if err != nil {
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	return demo.Run(ctx, demo.Options{
		Program: program,
		Data:    options.Data, Listen: options.Listen, Exit: options.Exit, Out: options.Out, Follow: options.Follow,
		Providers: all, Console: console.Files(), Version: release,
	})
}
