// Package servertest starts the real servers that tests run against, each on a
// free port of loopback with settings and data of its own, and ends them with
// the test.
package servertest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// ObjectStore is a running S3-compatible server.
type ObjectStore struct {
	Endpoint string // URL
	Key      string
	Secret   string
	Data     string // the folder that holds its buckets
	PID      int
	buckets  int
}

// StartObjectStore starts versitygw. `make tools` builds it.
func StartObjectStore(t testing.TB) *ObjectStore {
	t.Helper()
	return startObjectStore(t)
}

// StartVersionedObjectStore starts versitygw with versions and Object Lock.
func StartVersionedObjectStore(t testing.TB) *ObjectStore {
	t.Helper()
	return startObjectStore(t, "--versioning-dir", dataFolder(t))
}

func startObjectStore(t testing.TB, options ...string) *ObjectStore {
	t.Helper()
	binary := filepath.Join(Root(), ".cache", "bin", "versitygw")
	if _, err := os.Stat(binary); err != nil {
		t.Fatalf("the object store for tests is missing (%v); build it with: make tools", err)
	}
	s := &ObjectStore{Key: "heron-tests", Secret: "not-much-of-a-secret", Data: dataFolder(t)}
	address := FreeAddress(t)
	s.Endpoint = "http://" + address
	// Its dependencies read the environment for settings of real accounts.
	command := exec.Command(binary, "--quiet", "--keep-alive", "--port", address, "posix")
	command.Args = append(append(command.Args, options...), s.Data)
	command.Env = append(os.Environ(), "ROOT_ACCESS_KEY="+s.Key, "ROOT_SECRET_KEY="+s.Secret)
	Start(t, command)
	s.PID = command.Process.Pid
	WaitFor(t, address)
	return s
}

// dataFolder is on tmpfs where there is one, so that the disk is not measured.
func dataFolder(t testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "heron-objects-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// Bucket makes a new bucket and returns its name.
func (s *ObjectStore) Bucket(t testing.TB) string {
	t.Helper()
	s.buckets++
	name := fmt.Sprintf("bucket-%d", s.buckets)
	if err := s.Client(t).MakeBucket(context.Background(), name, minio.MakeBucketOptions{}); err != nil {
		t.Fatalf("make bucket: %v", err)
	}
	return name
}

// LockedBucket makes a new bucket with Object Lock, of a versioned store, and returns its name.
func (s *ObjectStore) LockedBucket(t testing.TB) string {
	t.Helper()
	s.buckets++
	name := fmt.Sprintf("bucket-%d", s.buckets)
	if err := s.Client(t).MakeBucket(context.Background(), name, minio.MakeBucketOptions{ObjectLocking: true}); err != nil {
		t.Fatalf("make bucket: %v", err)
	}
	return name
}

// Client speaks to the server.
func (s *ObjectStore) Client(t testing.TB) *minio.Core {
	t.Helper()
	core, err := minio.NewCore(s.Endpoint[len("http://"):], &minio.Options{
		Creds: credentials.NewStaticV4(s.Key, s.Secret, ""), Region: "us-east-1", BucketLookup: minio.BucketLookupPath,
	})
	if err != nil {
		t.Fatal(err)
	}
	return core
}

// Start starts a program and kills it, by its id, when the test ends.
func Start(t testing.TB, command *exec.Cmd) {
	t.Helper()
	if err := command.Start(); err != nil {
		t.Fatalf("start %s: %v", command.Path, err)
	}
	t.Cleanup(func() {
		_ = command.Process.Kill()
		_ = command.Wait()
	})
}

// FreeAddress returns an address of loopback that nothing listens on. It stays reserved for this
// test until the test ends: no other test's FreeAddress returns it, in this process or another, and
// its port is below those that the system gives to outgoing connections and to listeners on port 0.
func FreeAddress(t testing.TB) string {
	t.Helper()
	const first, count = 20000, 10000
	offset := rand.IntN(count)
	for try := range count {
		port := first + (offset+try)%count
		// An abstract name of this network's, which ends with the process that holds it.
		reserved, err := net.Listen("unix", fmt.Sprintf("@heron-test-port-%d", port))
		if err != nil {
			continue
		}
		address := fmt.Sprintf("127.0.0.1:%d", port)
		listener, err := net.Listen("tcp", address)
		if err != nil {
			reserved.Close()
			continue
		}
		listener.Close()
		t.Cleanup(func() { reserved.Close() })
		return address
	}
	t.Fatalf("no port from %d to %d is free", first, first+count-1)
	return ""
}

// WaitFor waits until something answers at an address, half a minute at most.
func WaitFor(t testing.TB, address string) {
	t.Helper()
	client := http.Client{Timeout: time.Second}
	for deadline := time.Now().Add(30 * time.Second); ; {
		response, err := client.Get("http://" + address + "/")
		if err == nil {
			response.Body.Close()
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("nothing answers at %s: %v", address, err)
		}
		runtime.Gosched()
		<-time.After(5 * time.Millisecond)
	}
}

// WaitForPort waits until something listens at an address, half a minute at most.
func WaitForPort(t testing.TB, address string) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); ; <-time.After(10 * time.Millisecond) {
		connection, err := net.Dial("tcp", address)
		if err == nil {
			connection.Close()
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("nothing listens at %s: %v", address, err)
		}
	}
}

// Root is the folder of the module.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(file))
}
