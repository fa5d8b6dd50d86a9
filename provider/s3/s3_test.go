package s3_test

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"deftheron/core/gate"
	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/s3"
	"deftheron/servertest"
	"deftheron/standin"
)

func open(t *testing.T, options map[string]string, secret string) store.Store {
	t.Helper()
	s, err := openErr(t.Context(), options, secret)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func openErr(ctx context.Context, options map[string]string, secret string) (store.Store, error) {
	checked, err := store.CheckOptions(s3.Provider{}, options, secret != "")
	if err != nil {
		return nil, err
	}
	start := store.Path(checked["start"])
	return s3.Provider{}.Open(ctx, store.Opening{
		Options: checked, Secrets: store.FixedSecret(secret), Gate: gate.New("s3", 16, 64), Start: start,
	})
}

func TestConformsOnVersitygw(t *testing.T) {
	server := servertest.StartObjectStore(t)
	storetest.Run(t, func(t *testing.T) store.Store {
		return open(t, map[string]string{
			"endpoint": server.Endpoint, "bucket": server.Bucket(t), "key": server.Key, "part-size": "5",
		}, server.Secret)
	})
}

// TestVersionedConforms runs the suite in a bucket that keeps versions.
func TestVersionedConforms(t *testing.T) {
	server := servertest.StartVersionedObjectStore(t)
	storetest.Run(t, func(t *testing.T) store.Store {
		return open(t, map[string]string{"endpoint": server.Endpoint, "bucket": server.LockedBucket(t), "key": server.Key, "part-size": "5"},
			server.Secret)
	})
}

// The embedded server verifies no CRC64NVME; its ETags are MD5s.
func TestConformsOnTheStandIn(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { return standIn(t) })
}

func standIn(t *testing.T) store.Store {
	t.Helper()
	handler, err := standin.ObjectStore("place")
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	return open(t, map[string]string{"endpoint": server.URL, "bucket": "place", "key": "k", "part-size": "5"}, "s")
}

func TestStaleProbes(t *testing.T) {
	server := servertest.StartObjectStore(t)
	bucket := server.Bucket(t)
	place := open(t, map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}, server.Secret)
	storetest.StaleProbes(t, place, filepath.Join(server.Data, bucket), func(path string) {
		if err := os.WriteFile(path, []byte("of a probe"), 0o666); err != nil {
			t.Fatal(err)
		}
	})
}

// TestProbesLeaveNoVersions prepares a bucket that keeps versions.
func TestProbesLeaveNoVersions(t *testing.T) {
	server := servertest.StartVersionedObjectStore(t)
	bucket := server.LockedBucket(t)
	place := open(t, map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}, server.Secret)
	if err := store.Prepare(t.Context(), place); err != nil {
		t.Fatal(err)
	}
	all := minio.ListObjectsOptions{WithVersions: true, Recursive: true}
	for object := range server.Client(t).Client.ListObjects(t.Context(), bucket, all) {
		t.Errorf("%s is left: version %s, %v", object.Key, object.VersionID, object.Err)
	}
}

func TestFindings(t *testing.T) {
	server := servertest.StartObjectStore(t)
	bucket := server.Bucket(t)
	real := open(t, map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}, server.Secret)
	embedded := standIn(t)
	for _, c := range []struct {
		name         string
		store        store.Store
		verification store.HashKind
		empty        bool
	}{{"versitygw", real, store.CRC64NVME, false}, {"stand-in", embedded, store.MD5, true}} {
		if err := store.Prepare(t.Context(), c.store); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		traits := c.store.Traits()
		if traits.VerificationKind != c.verification || !traits.Conditional || (traits.NameError("", "") == nil) != c.empty {
			t.Errorf("%s: verification %q, conditional %v, empty name: %v", c.name, traits.VerificationKind, traits.Conditional,
				traits.NameError("", ""))
		}
		for listed, err := range c.store.Capabilities().ListFlat(t.Context(), store.Folder{}) {
			if err != nil || listed.Kind != store.KindFolder { // versitygw keeps the empty folders
				t.Errorf("%s: probing left %s %+v, %v", c.name, listed.Key(), listed, err)
			}
		}
	}
}

// TestOddKeys writes keys as other programs do, and finds them all.
func TestOddKeys(t *testing.T) {
	s := standIn(t)
	for _, key := range []string{"a//b", "../up", "/lead", "folder/", "full/", "full/x", "dots/./here", "twin", "twin/x"} {
		raw := s.(interface {
			PutRaw(context.Context, string, string) error
		})
		content := "content of " + key
		if key == "folder/" {
			content = ""
		}
		if err := raw.PutRaw(t.Context(), key, content); err != nil {
			t.Fatalf("put %q: %v", key, err)
		}
	}
	var got []string
	for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, string(listed.Key()))
		if listed.Kind != store.KindFile {
			continue
		}
		place := listed.Ref(store.Folder{Path: listed.Below})
		sum, _, err := store.ReadBack(t.Context(), s, place, listed.Revision, store.MD5)
		if err != nil || sum != listed.Hashes.Get(store.MD5) {
			t.Errorf("%q: read %v, %v; listed with %v", listed.Key(), sum, err, listed.Hashes)
		}
	}
	want := []string{
		"../", "../up", "/", "/lead", "a/", "a//", "a//b", "dots/", "dots/./", "dots/./here", "folder/",
		"full/", "full/", "full/x", "twin", "twin/", "twin/x",
	}
	if !slices.Equal(got, want) {
		t.Errorf("listed\n%q\nwant\n%q", got, want)
	}
}

func TestOpenExplains(t *testing.T) {
	server := servertest.StartObjectStore(t)
	bucket := server.Bucket(t)
	other := httptest.NewServer(nil)
	defer other.Close()
	for _, c := range []struct {
		name    string
		options map[string]string
		secret  string
		want    string
	}{
		{"no such port", map[string]string{"endpoint": "http://127.0.0.1:1"}, server.Secret, "check the host and port of the endpoint"},
		{"no such host", map[string]string{"endpoint": "http://nowhere.invalid"}, server.Secret, "check the endpoint"},
		{"no scheme", map[string]string{"endpoint": "127.0.0.1:9000"}, server.Secret, "give a URL"},
		{"not an object store", map[string]string{"endpoint": other.URL}, server.Secret, "check the endpoint"},
		{"TLS where there is none", map[string]string{"endpoint": strings.Replace(server.Endpoint, "http", "https", 1)}, server.Secret,
			"http://"},
		{"wrong key", map[string]string{"key": "nobody"}, server.Secret, "check it"},
		{"wrong secret", nil, "wrong", "check both"},
		{"missing bucket", map[string]string{"bucket": "missing-bucket"}, server.Secret, "give another bucket"},
		{"missing start", map[string]string{"start": "nowhere/"}, server.Secret, "give another starting folder"},
		{"unknown option", map[string]string{"colour": "blue"}, server.Secret, "has no option"},
		{"a bucket's name that is none", map[string]string{"bucket": "B"}, server.Secret, "not a valid bucket name"},
		{"part size", map[string]string{"part-size": "1"}, server.Secret, "from 5 to 5120"},
		{"no secret", nil, "", "secret key is missing"},
	} {
		options := map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}
		for name, value := range c.options {
			options[name] = value
		}
		start := options["start"]
		delete(options, "start")
		checked, err := store.CheckOptions(s3.Provider{}, options, c.secret != "")
		if err == nil {
			_, err = s3.Provider{}.Open(t.Context(), store.Opening{
				Options: checked, Secrets: store.FixedSecret(c.secret), Start: store.Path(start),
			})
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: got %v; want it to say %q", c.name, err, c.want)
		}
		if err != nil && c.secret != "" && strings.Contains(err.Error(), server.Secret) {
			t.Errorf("%s: the error holds the secret", c.name)
		}
	}
}

// TestHostThatDoesNotAnswer has something listen that never says a word.
func TestHostThatDoesNotAnswer(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	_, err = openErr(ctx, map[string]string{"endpoint": "http://" + silent.Addr().String(), "bucket": "bucket", "key": "k"}, "s")
	if err == nil || !strings.Contains(err.Error(), "did not answer in time") || !strings.Contains(err.Error(), "the endpoint") {
		t.Errorf("%v; want it to say that nothing answers, and what to check", err)
	}
}

func TestNamesRefused(t *testing.T) {
	s := standIn(t)
	for _, name := range []string{".", "..", "a/b", "bad\xff", strings.Repeat("x", 1025)} {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At(name), Size: 1, Content: storetest.Text("x")})
		if !errors.Is(err, store.ErrNameRefused) {
			t.Errorf("%q: %v, want %q", name, err, store.ErrNameRefused)
		}
	}
}

// counted counts the requests of an account.
type counted struct {
	http.RoundTripper
	n atomic.Int64
}

func (c *counted) RoundTrip(request *http.Request) (*http.Response, error) {
	c.n.Add(1)
	return c.RoundTripper.RoundTrip(request)
}

// TestRequestsOfACopy counts the requests that a copy inside the bucket takes: one look
// at the target, and the copy itself, whose answer says that it has the content.
func TestRequestsOfACopy(t *testing.T) {
	server := servertest.StartObjectStore(t)
	options, err := store.CheckOptions(s3.Provider{},
		map[string]string{"endpoint": server.Endpoint, "bucket": server.Bucket(t), "key": server.Key}, true)
	if err != nil {
		t.Fatal(err)
	}
	transport := &counted{RoundTripper: http.DefaultTransport}
	s, err := s3.Provider{}.Open(t.Context(),
		store.Opening{Options: options, Secrets: store.FixedSecret(server.Secret), Gate: gate.New("s3", 16, 64), Transport: transport})
	if err != nil {
		t.Fatal(err)
	}
	if err := store.Prepare(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	written, err := s.Write(t.Context(), store.Writing{Place: store.At("a", "one"), Size: 7, If: store.Absent, Run: "r",
		Content: storetest.Text("content")})
	if err != nil {
		t.Fatal(err)
	}
	before := transport.n.Load()
	copied, err := store.Copy(t.Context(), s, store.At("a", "one"), written.Revision, store.At("b", "two"), "r")
	if err != nil || copied.Revision != written.Revision || copied.Modified.IsZero() {
		t.Fatalf("%+v, %v; want the revision %q", copied, err, written.Revision)
	}
	if n := transport.n.Load() - before; n > 2 {
		t.Errorf("it took %d requests, want 2", n)
	}
	if there, err := s.Stat(t.Context(), store.At("b", "two")); err != nil || there.Revision != copied.Revision ||
		!there.Modified.Truncate(time.Second).Equal(copied.Modified.Truncate(time.Second)) {
		t.Errorf("%+v, %v; want what the copy told: %+v", there, err, copied)
	}
	if _, err := store.Copy(t.Context(), s, store.At("a", "one"), "another revision", store.At("b", "three"),
		"r"); store.KindOf(err) != store.ErrChanged {
		t.Errorf("of another revision: %v", err)
	}
	if _, err := store.Copy(t.Context(), s, store.At("a", "nothing"), written.Revision, store.At("b", "four"),
		"r"); store.KindOf(err) != store.ErrNotFound {
		t.Errorf("of what is not there: %v", err)
	}
}
