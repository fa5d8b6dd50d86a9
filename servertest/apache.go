package servertest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// Apache is a running Apache server with a WebDAV collection.
type Apache struct {
	URL      string // of the collection, ending in "/"
	User     string
	Password string
	// Certificate is the SHA-256 of its certificate, where it speaks TLS.
	Certificate string
	// CertificateFile is the PEM file of it.
	CertificateFile string
	root            string
	folders         int
}

// ApacheOptions are what it is started with.
type ApacheOptions struct {
	Digest bool // asks for a sign-in by Digest, not Basic, and again each second
	// NotAfter: with TLS, by a certificate of its own that ends then.
	NotAfter time.Time
}

// StartApache starts Debian's Apache with mod_dav, locks, and a user.
func StartApache(t testing.TB, options ApacheOptions) *Apache {
	t.Helper()
	binary, err := exec.LookPath("apache2")
	if err != nil {
		if binary, err = exec.LookPath("/usr/sbin/apache2"); err != nil {
			t.Fatal("Apache is missing; install it with: make prerequisites")
		}
	}
	a := &Apache{User: "field", Password: "not much of a: password", root: dataFolder(t)}
	address := FreeAddress(t)
	for _, folder := range []string{"dav", "locks", "run"} {
		if err := os.MkdirAll(filepath.Join(a.root, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	var secure, worker string
	scheme := "http"
	if !options.NotAfter.IsZero() {
		scheme = "https"
		secure = a.certify(t, options.NotAfter)
	}
	if os.Getuid() == 0 { // it does not serve as root
		worker = "User www-data\nGroup www-data\n"
		a.give(t, a.root)
	}
	kind, users := "Basic", ""
	if options.Digest {
		kind, users = "Digest\n  AuthDigestNonceLifetime 1", fmt.Sprintf("%s:herons:%x\n", a.User, md5.Sum([]byte(a.User+":herons:"+a.Password)))
	} else {
		hash, err := bcrypt.GenerateFromPassword([]byte(a.Password), bcrypt.MinCost)
		if err != nil {
			t.Fatal(err)
		}
		users = a.User + ":" + string(hash) + "\n"
	}
	a.write(t, "users", users)
	var modules strings.Builder
	for _, name := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "auth_digest", "dav",
		"dav_fs", "dav_lock", "mime", "socache_shmcb", "ssl"} {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", name, name)
	}
	a.write(t, "apache.conf", fmt.Sprintf(`%[1]s
ServerRoot %[2]s
DefaultRuntimeDir %[2]s/run
PidFile %[2]s/run/pid
ServerName localhost
Listen %[3]s
%[4]s%[5]s
ErrorLog %[2]s/error.log
LogLevel warn
TypesConfig /dev/null
DavLockDB %[2]s/locks/db
DocumentRoot %[2]s
LimitRequestBody 0
<Directory %[2]s/dav>
  Dav On
  AuthType %[6]s
  AuthName herons
  AuthUserFile %[2]s/users
  Require valid-user
</Directory>
`, modules.String(), a.root, address, worker, secure, kind))
	command := exec.Command(binary, "-f", filepath.Join(a.root, "apache.conf"), "-DFOREGROUND", "-k", "start")
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		// It has workers of its own: the whole group of this process.
		_ = syscall.Kill(-command.Process.Pid, syscall.SIGKILL)
		_ = command.Wait()
	})
	for deadline := time.Now().Add(30 * time.Second); ; {
		if connection, err := net.Dial("tcp", address); err == nil {
			connection.Close()
			break
		}
		if time.Now().After(deadline) {
			log, _ := os.ReadFile(filepath.Join(a.root, "error.log"))
			t.Fatalf("Apache does not answer: %s", log)
		}
		<-time.After(10 * time.Millisecond)
	}
	a.URL = scheme + "://" + address + "/dav/"
	return a
}

// Folder makes a collection of its own and returns its URL and where it is on
// the disk.
func (a *Apache) Folder(t testing.TB) (url, path string) {
	t.Helper()
	a.folders++
	name := "place-" + strconv.Itoa(a.folders)
	path = filepath.Join(a.root, "dav", name)
	if err := os.Mkdir(path, 0o755); err != nil {
		t.Fatal(err)
	}
	a.give(t, path)
	return a.URL + name + "/", path
}

// give makes all below a path the server's.
func (a *Apache) give(t testing.TB, path string) {
	t.Helper()
	if os.Getuid() != 0 {
		return
	}
	who, err := user.Lookup("www-data")
	if err != nil {
		t.Fatal(err)
	}
	uid, _ := strconv.Atoi(who.Uid)
	gid, _ := strconv.Atoi(who.Gid)
	err = filepath.WalkDir(path, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, uid, gid)
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Give makes a file that was put there the server's own.
func (a *Apache) Give(t testing.TB, path string) { a.give(t, path) }

func (a *Apache) write(t testing.TB, name, content string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(a.root, name), []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

// certify makes a certificate of its own, and returns the settings for it.
func (a *Apache) certify(t testing.TB, notAfter time.Time) string {
	t.Helper()
	certificate, key, der := selfSigned(t, notAfter)
	a.write(t, "certificate.pem", certificate)
	a.write(t, "key.pem", key)
	a.CertificateFile = filepath.Join(a.root, "certificate.pem")
	a.Certificate = fmt.Sprintf("%X", sha256.Sum256(der))
	return fmt.Sprintf("SSLEngine on\nSSLCertificateFile %[1]s/certificate.pem\nSSLCertificateKeyFile %[1]s/key.pem\n", a.root)
}

// selfSigned makes a certificate for this machine's loopback, and its key.
func selfSigned(t testing.TB, notAfter time.Time) (certificate, private string, der []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "gauges.example.org"},
		NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: notAfter, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err = x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	encoded, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: encoded})), der
}

// Forward passes requests on to the server of a collection, for what stands
// between it and a client. A connection that breaks off there breaks off here.
func Forward(t testing.TB, collection string) http.Handler {
	t.Helper()
	target, err := url.Parse(collection)
	if err != nil {
		t.Fatal(err)
	}
	return &httputil.ReverseProxy{
		ErrorHandler: func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) },
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host = target.Scheme, target.Host
			if destination, err := url.Parse(r.Out.Header.Get("Destination")); err == nil && destination.Host != "" {
				destination.Host = target.Host
				r.Out.Header.Set("Destination", destination.String())
			}
		},
	}
}
