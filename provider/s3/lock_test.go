package s3_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/s3"
	"deftheron/servertest"
)

// put writes a file to be locked.
func put(t *testing.T, s store.Store) store.Ref {
	t.Helper()
	place := store.At("versions", "flow.csv").As(store.KindFile)
	if _, err := s.Write(t.Context(), store.Writing{Place: place, Size: 5, Run: "r", Content: storetest.Text("level")}); err != nil {
		t.Fatal(err)
	}
	return place
}

// TestLock has the store itself keep a file: whoever deletes it gets an error, the owner too.
func TestLock(t *testing.T) {
	server := servertest.StartVersionedObjectStore(t)
	bucket := server.LockedBucket(t)
	s := open(t, map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}, server.Secret)
	place, until := put(t, s), time.Now().Add(time.Hour)
	if locked, err := store.Lock(t.Context(), s, place, until); err != nil || !locked {
		t.Fatalf("locking: %v, %v", locked, err)
	}
	client := server.Client(t)
	info, err := client.StatObject(t.Context(), bucket, "versions/flow.csv", minio.StatObjectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if err := client.RemoveObject(t.Context(), bucket, "versions/flow.csv", minio.RemoveObjectOptions{VersionID: info.VersionID}); err == nil {
		t.Error("the store deleted a locked version")
	}
	if _, err := s.Remove(t.Context(), place, ""); err != nil {
		t.Errorf("a marker that hides the file: %v", err)
	}
	body, _, _, err := client.GetObject(t.Context(), bucket, "versions/flow.csv", minio.GetObjectOptions{VersionID: info.VersionID})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if data, err := io.ReadAll(body); err != nil || string(data) != "level" {
		t.Errorf("the locked version holds %q, %v", data, err)
	}
}

// TestNoLock has buckets without Object Lock, and a store that accepts a retention and
// forgets it: neither counts as locked.
func TestNoLock(t *testing.T) {
	plain := servertest.StartObjectStore(t)
	versioned := servertest.StartVersionedObjectStore(t)
	target, err := url.Parse(versioned.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	relay := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = target.Host // as the signature has it
	}}
	forgetful := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut && r.URL.Query().Has("retention") {
			_, _ = io.Copy(io.Discard, r.Body)
			return
		}
		relay.ServeHTTP(w, r)
	}))
	defer forgetful.Close()
	for name, s := range map[string]store.Store{
		"no versions": open(t, map[string]string{"endpoint": plain.Endpoint, "bucket": plain.Bucket(t), "key": plain.Key}, plain.Secret),
		"no lock": open(t, map[string]string{"endpoint": versioned.Endpoint, "bucket": versioned.Bucket(t), "key": versioned.Key},
			versioned.Secret),
	} {
		place := put(t, s)
		for range 2 {
			if locked, err := store.Lock(t.Context(), s, place, time.Now().Add(time.Hour)); locked {
				t.Errorf("%s: locked, %v", name, err)
			}
		}
	}
	bucket := versioned.LockedBucket(t)
	direct := open(t, map[string]string{"endpoint": versioned.Endpoint, "bucket": bucket, "key": versioned.Key}, versioned.Secret)
	place := put(t, direct)
	s := lockThrough(t, forgetful.URL, versioned, bucket)
	if locked, err := store.Lock(t.Context(), s, place, time.Now().Add(time.Hour)); locked {
		t.Errorf("a store that forgets: locked, %v", err)
	}
}

// lockThrough opens a bucket through a relay that signs nothing: the host is that of the
// server, as the signature has it.
func lockThrough(t *testing.T, address string, server *servertest.ObjectStore, bucket string) store.Store {
	t.Helper()
	relay, _ := url.Parse(address)
	checked, err := store.CheckOptions(s3.Provider{}, map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key},
		true)
	if err != nil {
		t.Fatal(err)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	t.Cleanup(transport.CloseIdleConnections)
	s, err := s3.Provider{}.Open(t.Context(), store.Opening{
		Options: checked, Secrets: store.FixedSecret(server.Secret), Transport: redirected{transport, relay.Host},
	})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// redirected sends requests to another host than they are for.
type redirected struct {
	base http.RoundTripper
	host string
}

func (r redirected) RoundTrip(request *http.Request) (*http.Response, error) {
	request = request.Clone(request.Context())
	request.Host, request.URL.Host = request.URL.Host, r.host
	return r.base.RoundTrip(request)
}
