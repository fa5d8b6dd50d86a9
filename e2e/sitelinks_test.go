package e2e

import (
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/demo"
	"deftheron/servertest"
)

// TestSignInsAtSite links places behind sign-ins that only a worker reaches: shares and buckets are
// listed, a host key and a certificate compared, and consent is asked for, renewed and given back.
func TestSignInsAtSite(t *testing.T) {
	t.Parallel()
	h := start(t)
	p := newPremises(t, h)
	w := h.worker("gauge-house", "premises", p.network)

	t.Run("shares", func(t *testing.T) {
		h := h.of(t)
		samba := servertest.StartSamba(t, servertest.SambaOptions{})
		p.network.Relay("127.0.0.1:445", samba.Host+":"+samba.Port)
		smb := []string{"account", "link", "smb", "office", "--host", "127.0.0.1", "--port", "445", "--user", samba.User, "--secret-file", "-"}
		if r := h.run(samba.Password, smb...); r.code == 0 || strings.Contains(r.err, "Permits") {
			t.Fatalf("the service reaches the server without a worker: %s%s", r.out, r.err)
		}
		smb = append(smb, "--at", "premises")
		h.says(samba.Password, 2, "There are Permits, Surveys", smb...)
		h.says(samba.Password, 0, "at the site premises as /office-surveys", append(smb, "--take", "all")...)
		h.must("mkdir", "/office-permits/2026")
	})
	t.Run("buckets", func(t *testing.T) {
		h := h.of(t)
		objects := servertest.StartObjectStore(t)
		one, two := objects.Bucket(t), objects.Bucket(t)
		p.network.Relay("127.0.0.1:9000", strings.TrimPrefix(objects.Endpoint, "http://"))
		h.says(objects.Secret, 0, "at the site premises as /archive", "account", "link", "s3", "archive", "--endpoint",
			"http://127.0.0.1:9000", "--key", objects.Key, "--secret-file", "-", "--at", "premises", "--take", two)
		behind, err := h.client().AccountResources(t.Context(), "archive")
		if err != nil || len(behind.Resources) != 2 || behind.Resources[1].Linked != "archive" || behind.Resources[0].Linked != "" {
			t.Fatalf("%+v, %v", behind, err)
		}
		if _, err := h.client().LinkResource(t.Context(), "archive", contract.Taking{Value: one, Name: "archive-two"}); err != nil {
			t.Fatal(err)
		}
		if second := h.account("archive-two"); second.Site != "premises" {
			t.Errorf("the second bucket is at %q", second.Site)
		}
		h.must("mkdir", "/archive-two/new")
	})
	t.Run("host key", func(t *testing.T) {
		h := h.of(t)
		link := contract.Link{Provider: "sftp", Name: "loggers", At: "premises", Options: map[string]string{"host": "127.0.0.1", "port": "22",
			"user": p.shell.User, "path": p.place}}
		shown, err := h.client().ProbeIdentity(t.Context(), link)
		if err != nil || shown.Option != "host-key" || !strings.Contains(shown.Words, "SHA256") {
			t.Errorf("%+v, %v", shown, err)
		}
	})
	t.Run("certificate", func(t *testing.T) {
		h := h.of(t)
		ends := time.Now().Add(10 * 24 * time.Hour).Truncate(time.Second)
		apache := servertest.StartApache(t, servertest.ApacheOptions{NotAfter: ends})
		address, path, _ := strings.Cut(strings.TrimPrefix(apache.URL, "https://"), "/")
		p.network.Relay("127.0.0.1:8443", address)
		w.end(syscall.SIGTERM)
		w.env = append(os.Environ(), "SSL_CERT_FILE="+apache.CertificateFile) // its machine trusts the server
		w.start()
		h.workerIs("gauge-house", "connected")
		h.link(apache.Password, "webdav", "papers", "--url", "https://127.0.0.1:8443/"+path, "--user", apache.User, "--at", "premises")
		h.must("ls", "/papers")
		if warned := h.account("papers").Warnings; len(warned) != 1 || warned[0].What != "certificate-ends" ||
			!strings.Contains(warned[0].Why, ends.Local().Format(time.DateOnly)) {
			t.Errorf("the certificate ends on %s: %+v", ends, warned)
		}
	})
	t.Run("consent", func(t *testing.T) { h.of(t).consentAtSite(t, p) })
}

// consentAtSite links a cloud that only a worker reaches; the page itself is reached by the browser of
// whoever agrees.
func (h *heron) consentAtSite(t *testing.T, p *premises) {
	c := clouds(t)
	c.Sedge.Consents.Lifetime = 3 * time.Second
	real := strings.TrimPrefix(c.SedgeURL, "http://")
	const there = "127.0.0.1:8880"
	p.network.Relay(there, real)
	for _, way := range []string{"page", "device"} {
		name := "drive-by-" + way
		begun, err := h.client().BeginConsent(t.Context(), contract.Consenting{Way: way, Link: contract.Link{Provider: "sedge", Name: name,
			At: "premises", Options: map[string]string{"url": "http://" + there, "client-id": "own"}, Secret: "own-secret"}})
		page := strings.Replace(begun.URL, there, real, 1)
		switch {
		case err == nil && way == "device":
			answerDevice(t, page, begun.UserCode, "agree")
		case err == nil:
			err = demo.Agree(t.Context(), page, sedgeUser)
		}
		if err != nil {
			t.Fatalf("%s: %v", way, err)
		}
		for deadline := time.Now().Add(longestWait); ; <-time.After(50 * time.Millisecond) {
			asked, err := h.client().Consent(t.Context(), begun.ID)
			if err != nil || asked.State == "failed" || time.Now().After(deadline) {
				t.Fatalf("%s: %+v, %v", way, asked, err)
			}
			if asked.State == "linked" {
				break
			}
		}
		h.must("mkdir", "/"+name+"/by-"+way)
		<-time.After(4 * time.Second) // the token ends
		if out := h.must("ls", "/"+name); !strings.Contains(out, "by-"+way) {
			t.Errorf("after the token ended: %s", out)
		}
		live := c.Sedge.Consents.Live()
		if h.must("account", "unlink", name, "--yes"); c.Sedge.Consents.Live() != live-1 {
			t.Errorf("%s was unlinked, and of %d consents %d are good", name, live, c.Sedge.Consents.Live())
		}
	}
}
