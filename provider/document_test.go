// Package provider_test holds docs/providers.md to what the providers say of
// themselves, opened on the servers that tests run against.
package provider_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/provider/declared"
	"deftheron/provider/folder"
	"deftheron/provider/ftp"
	"deftheron/provider/s3"
	"deftheron/provider/sealed"
	"deftheron/provider/sftp"
	"deftheron/provider/smb"
	"deftheron/provider/webdav"
	"deftheron/servertest"
	"deftheron/standin"
)

var update = flag.Bool("update", false, "write docs/providers.md again")

// place is a provider on a server.
type place struct {
	provider, on string
	store        store.Store
}

func open(t *testing.T, provider store.Provider, on string, options map[string]string, secret string) place {
	t.Helper()
	checked, err := store.CheckOptions(provider, options, secret != "")
	if err != nil {
		t.Fatal(err)
	}
	s, err := provider.Open(t.Context(), store.Opening{Options: checked, Secrets: store.FixedSecret(secret), Gate: gate.New(on, 16, 64)})
	if err == nil {
		err = store.Prepare(t.Context(), s)
	}
	if err != nil {
		t.Fatalf("%s on %s: %v", provider.Name(), on, err)
	}
	return place{provider.Name(), on, s}
}

func places(t *testing.T) []place {
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, _ := apache.Folder(t)
	dav := httptest.NewServer(standin.WebDAV(t.TempDir(), "", ""))
	t.Cleanup(dav.Close)
	objects := servertest.StartObjectStore(t)
	handler, err := standin.ObjectStore("place")
	if err != nil {
		t.Fatal(err)
	}
	embedded := httptest.NewServer(handler)
	t.Cleanup(embedded.Close)
	shell := servertest.StartOpenSSH(t)
	vsftpd := servertest.StartVsftpd(t, servertest.FTPOptions{TLS: "explicit"})
	vsftpdPath, _ := vsftpd.Folder(t)
	pure := servertest.StartPureFTPd(t, servertest.FTPOptions{TLS: "explicit"})
	purePath, _ := pure.Folder(t)
	samba := servertest.StartSamba(t, servertest.SambaOptions{})
	return []place{
		open(t, folder.Provider{}, "a Linux disk", map[string]string{"path": t.TempDir()}, ""),
		open(t, webdav.Provider{}, "Apache", map[string]string{"url": url, "user": apache.User}, apache.Password),
		open(t, webdav.Provider{}, "golang.org/x/net/webdav", map[string]string{"url": dav.URL}, ""),
		open(t, s3.Provider{}, "versitygw", map[string]string{"endpoint": objects.Endpoint, "bucket": objects.Bucket(t), "key": objects.Key},
			objects.Secret),
		open(t, sftp.Provider{}, "OpenSSH", map[string]string{"host": shell.Host, "port": shell.Port, "user": shell.User}, shell.Password),
		open(t, ftp.Provider{}, "Pure-FTPd", map[string]string{"host": pure.Host, "port": pure.Port, "user": pure.User, "path": purePath,
			"certificate": pure.Certificate}, pure.Password),
		open(t, ftp.Provider{}, "vsftpd", map[string]string{"host": vsftpd.Host, "port": vsftpd.Port, "user": vsftpd.User, "path": vsftpdPath,
			"certificate": vsftpd.Certificate}, vsftpd.Password),
		open(t, smb.Provider{}, "Samba", map[string]string{"host": samba.Host, "port": samba.Port, "user": samba.User, "share": samba.Share},
			samba.Password),
		drive(t, "sedge"), drive(t, "alder"),
		open(t, s3.Provider{}, "the demo's object store", map[string]string{"endpoint": embedded.URL, "bucket": "place", "key": "k"}, "s"),
	}
}

// drive is an account at a stand-in cloud, linked by consent.
func drive(t *testing.T, name string) place {
	t.Helper()
	sedge, err := standin.OpenSedge(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	alder, err := standin.OpenAlder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	sedge.Consents.Register(standin.Client{ID: "own", Secret: "own-secret", Redirects: []string{standin.Callback}}) // as fast as may be
	handler, consents, client, secret, scopes := http.Handler(sedge), sedge.Consents, "own", "own-secret",
		[]string{"items.read", "items.write"}
	if name == "alder" {
		handler, consents, client, secret, scopes = alder, alder.Consents, standin.AlderClient, "alder-app",
			[]string{"folders:view", "folders:edit"}
	}
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	access, refresh, _ := consents.Grant(client, consents.Users[0], scopes...)
	grant, err := json.Marshal(map[string]string{"way": "code", "access": access, "refresh": refresh, "client_id": client,
		"client_secret": secret})
	if err != nil {
		t.Fatal(err)
	}
	all, err := declared.Shipped()
	if err != nil {
		t.Fatal(err)
	}
	for _, provider := range all {
		if provider.Name() == name {
			opened, err := provider.Open(t.Context(), store.Opening{
				Options: map[string]string{"url": server.URL}, Secrets: store.FixedSecret(grant), Gate: gate.New(name, 16, 64),
				Transport: http.DefaultTransport, Now: time.Now, Log: slog.New(slog.DiscardHandler),
			})
			if err != nil {
				t.Fatal(err)
			}
			return place{name, "its stand-in", opened}
		}
	}
	t.Fatalf("no %s is shipped", name)
	return place{}
}

// questions are those that a technician asks, answered from the traits and the
// abilities.
var questions = []struct {
	question string
	answer   func(place) string
}{
	{"Will the dates of files survive?", func(p place) string {
		switch traits := p.store.Traits(); {
		case traits.KeepsTimes:
			return "yes, to the " + precision(traits.TimePrecision)
		case traits.TimePrecision > 0:
			return "no: a file gets the time of its upload"
		}
		return "no: none are told"
	}},
	{"Can a half-written file be seen?", func(p place) string { return yes(!p.store.Traits().Whole, "yes", "no") }},
	{"Can it overwrite what somebody else just wrote?", func(p place) string {
		return yes(p.store.Traits().Conditional, "no: the server itself checks as it writes",
			"only in the moment described below: the target is checked again just before the write")
	}},
	{"How is content verified after a copy?", func(p place) string {
		if kind := p.store.Traits().VerificationKind; kind != "" {
			return strings.ToUpper(string(kind)) + ", from the answer to the write"
		}
		return "by reading it back"
	}},
	{"Is damage noticed on the way from there?", func(p place) string {
		switch p.provider {
		case "s3":
			return "yes, if the server keeps a checksum of the whole object: the bytes are compared with it"
		case "folder":
			return "as far as the disk notices it"
		case "sftp":
			return "by the connection, which is encrypted and checked"
		case "smb":
			return "by the connection, which is signed"
		case "ftp":
			return "only by the connection, so use TLS: the server reports no hash"
		case "sedge", "alder":
			return strings.ToUpper(string(p.store.Traits().VerificationKind)) + ": the bytes are compared with it"
		}
		return "only by the connection, so use https: the server reports no hash"
	}},
	{"How are two files compared?", func(p place) string {
		if summer := p.store.Capabilities().Checksums; summer != nil && len(summer.SumKinds()) > 0 {
			var kinds []string
			for _, kind := range summer.SumKinds() {
				kinds = append(kinds, strings.ToUpper(string(kind)))
			}
			return "by " + strings.Join(kinds, ", ") + " without reading them over the network"
		}
		if p.provider == "sftp" {
			return "by MD5, SHA1, SHA512, SHA256 if the server computes them (check-file); else by the record of an earlier copy, or by reading both"
		}
		if p.provider == "sedge" || p.provider == "alder" {
			return "by " + strings.ToUpper(string(p.store.Traits().VerificationKind)) + " of the listing"
		}
		return "by the record of an earlier copy, else by reading both"
	}},
	{"Can it rename and move files itself?", func(p place) string {
		return yes(store.CanMove(p.store), "yes, at once", "no: the file is copied, verified and then deleted")
	}},
	{"Can an interrupted transfer continue?", func(p place) string {
		writer := p.store.Capabilities().Parts
		if p.provider == "sedge" || p.provider == "alder" {
			return "within one attempt, if the service reports how far it got; else the file starts again"
		}
		if writer == nil {
			return "no: the file starts again"
		}
		limits, _ := writer.PartLimits()
		return fmt.Sprintf("yes, in parts, above %d MiB", limits.Above>>20)
	}},
	{"Do deleted files go to a trash?", func(p place) string { return yes(p.store.Traits().Trash, "yes", "no: deleting is final") }},
	{"Does it report free space?", func(p place) string {
		ok := p.store.Capabilities().Space != nil
		if words := map[string]string{"webdav": "if the server does (RFC 4331)",
			"sftp": "if the server does (statvfs)"}[p.provider]; words != "" {
			return words
		}
		return yes(ok, "yes", "no")
	}},
	{"Does it report changes?", func(p place) string {
		ok := p.store.Capabilities().Changes != nil
		if p.provider == "sedge" || p.provider == "alder" {
			return yes(p.provider == "alder", "yes, and a request can wait for it", "yes, by cursor")
		}
		return yes(ok, "if the server does (RFC 6578)", "no: it is listed each time")
	}},
	{"Are empty folders kept?", func(p place) string {
		return yes(p.store.Traits().Folders == store.FoldersImplied, "yes, as marker objects", "yes")
	}},
	{"How large may a file be?", func(p place) string {
		if most := p.store.Traits().LargestFile; most > 0 {
			return fmt.Sprintf("%d TiB", most>>40)
		}
		return "the limit of the server"
	}},
	{"Which names are refused?", func(p place) string { return refused(p.store.Traits()) }},
}

func yes(is bool, yes, no string) string {
	if is {
		return yes
	}
	return no
}

func precision(d time.Duration) string {
	return map[time.Duration]string{time.Nanosecond: "nanosecond", time.Millisecond: "millisecond", time.Second: "second"}[d]
}

// refused tries names that stores are known to refuse.
func refused(traits store.Traits) string {
	var found []string
	for _, c := range []struct{ name, words string }{
		{"", "empty"}, {".", "`.`"}, {"..", "`..`"}, {"a/b", "with `/`"}, {"a\\b", "with `\\`"}, {"a:b", "with `:`"}, {"dot.", "trailing dot"},
		{"space ", "trailing space"}, {"con", "`con`"}, {"new\nline", "with a line break"}, {"bad\xff", "not UTF-8"},
		{strings.Repeat("n", 256), "above 255 bytes"}, {strings.Repeat("n", 1100), "keys above 1,024 bytes"},
	} {
		if traits.NameError("", c.name) != nil {
			if c.words == "keys above 1,024 bytes" && found[len(found)-1] == "above 255 bytes" {
				continue
			}
			found = append(found, c.words)
		}
	}
	return strings.Join(found, ", ")
}

func document(places []place) string {
	var b strings.Builder
	b.WriteString(`# What each provider keeps

Generated from the traits of each provider, with the servers that the tests run, by ` + "`go test ./provider -update`" + `. The page of an account
tells the same of its own server.

`)
	b.WriteString("| |")
	for _, p := range places {
		fmt.Fprintf(&b, " `%s`, %s |", p.provider, p.on)
	}
	b.WriteString("\n|" + strings.Repeat(" --- |", len(places)+1) + "\n")
	for _, question := range questions {
		fmt.Fprintf(&b, "| **%s** |", question.question)
		for _, p := range places {
			fmt.Fprintf(&b, " %s |", question.answer(p))
		}
		b.WriteByte('\n')
	}
	b.WriteString("\n## What the protocol or the server leaves open\n")
	for _, p := range places {
		fmt.Fprintf(&b, "\n**`%s`, %s**\n\n", p.provider, p.on)
		for _, window := range p.store.Traits().Windows {
			fmt.Fprintf(&b, "- %s\n", window)
		}
	}
	b.WriteString("\n## Options\n")
	for _, provider := range []store.Provider{folder.Provider{}, webdav.Provider{}, s3.Provider{}, sftp.Provider{}, ftp.Provider{},
		smb.Provider{}, sealed.Provider{}} {
		fmt.Fprintf(&b, "\n**`%s`**: %s\n\n", provider.Name(), provider.Title())
		for _, option := range provider.Options() {
			name, note := "`--"+option.Name+"`", ""
			if option.Secret {
				name = "`--secret-file`"
			}
			if option.File {
				note = "; the file is read where the command runs, and sealed"
			}
			if option.Required {
				note = " (needed)"
			}
			if option.Default != "" {
				note = " (else " + option.Default + ")"
			}
			fmt.Fprintf(&b, "- %s: %s%s\n", name, option.Help, note)
		}
	}
	b.WriteString("\nFor each: `--start FOLDER` makes a folder the root of the account; `--read-only` refuses every change.\n")
	return b.String()
}

func TestProvidersDocument(t *testing.T) {
	path := filepath.Join(servertest.Root(), "docs", "providers.md")
	want := document(places(t))
	if *update {
		if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(path)
	if err != nil || string(got) != want {
		t.Errorf("docs/providers.md is not what the providers say (%v); write it again: go test ./provider -update", err)
	}
}
