package bench

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"golang.org/x/time/rate"

	"deftheron/contract"
	"deftheron/servertest"
)

// paced passes connections on to a server, in each direction with so many bytes a second over all,
// and returns its address.
func paced(t *testing.T, to string, bytesASecond int) string {
	t.Helper()
	up, down := rate.NewLimiter(rate.Limit(bytesASecond), 1<<20), rate.NewLimiter(rate.Limit(bytesASecond), 1<<20)
	return forward(t, to, func(into, from net.Conn, goesUp bool) {
		if goesUp {
			limitTo(into, from, up)
		} else {
			limitTo(into, from, down)
		}
	})
}

// limitTo copies a direction of a connection at the rate of a limiter.
func limitTo(into, from net.Conn, limit *rate.Limiter) {
	buffer := make([]byte, 64<<10)
	for {
		n, err := from.Read(buffer)
		if n > 0 && (limit.WaitN(context.Background(), n) != nil || writeAll(into, buffer[:n]) != nil) || err != nil {
			return
		}
	}
}

func writeAll(into net.Conn, p []byte) error {
	_, err := into.Write(p)
	return err
}

// TestBenchGatewayPaced reads and writes a file over the network drive, and without it, at an object
// store of 100 MB/s.
func TestBenchGatewayPaced(t *testing.T) {
	skip(t)
	const size = 256 << 20
	server := servertest.StartObjectStore(t)
	to, err := url.Parse(server.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	address, bucket := paced(t, to.Host, 100_000_000), server.Bucket(t)
	bare, err := minio.NewCore(address, &minio.Options{Creds: credentials.NewStaticV4(server.Key, server.Secret, ""), Region: "us-east-1",
		BucketLookup: minio.BucketLookupPath})
	if err != nil {
		t.Fatal(err)
	}
	h := startHeron(t, build(t))
	h.link(contract.Link{Provider: "s3", Name: "objects", Secret: server.Secret,
		Options: map[string]string{"endpoint": "http://" + address, "bucket": bucket, "key": server.Key}})
	drive := h.client.Drive().URL() + "objects/"
	ask := func(method, name string, body io.Reader) {
		request, err := http.NewRequestWithContext(t.Context(), method, drive+name, body)
		if err != nil {
			t.Fatal(err)
		}
		request.SetBasicAuth("anybody", h.client.Token)
		if body != nil {
			request.ContentLength = size
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		if _, err := io.Copy(io.Discard, response.Body); err != nil || response.StatusCode >= 300 {
			t.Fatalf("%s: %s, %v", method, response.Status, err)
		}
	}
	content := func() io.Reader { return io.LimitReader(endless{}, size) }
	written, read := []float64{}, []float64{}
	timed := func(do func()) float64 {
		begun := time.Now()
		do()
		return time.Since(begun).Seconds()
	}
	ours, theirs := map[string]float64{}, map[string]float64{}
	for pair := range *pairs {
		sides := []func(){func() {
			ours["write"] = timed(func() { ask(http.MethodPut, "ours.bin", content()) })
			ours["read"] = timed(func() { ask(http.MethodGet, "ours.bin", nil) })
		}, func() {
			theirs["write"] = timed(func() {
				_, err := bare.Client.PutObject(t.Context(), bucket, "theirs.bin", content(), size, minio.PutObjectOptions{})
				if err != nil {
					t.Fatal(err)
				}
			})
			theirs["read"] = timed(func() {
				body, _, _, err := bare.GetObject(t.Context(), bucket, "theirs.bin", minio.GetObjectOptions{})
				if err == nil {
					_, err = io.Copy(io.Discard, body)
				}
				if err != nil {
					t.Fatal(err)
				}
			})
		}}
		for n := range sides {
			sides[(n+pair)%2]()
		}
		written, read = append(written, theirs["write"]/ours["write"]), append(read, theirs["read"]/ours["read"])
		t.Logf("pair %d: write %.2f and %.2f s, read %.2f and %.2f s", pair+1, ours["write"], theirs["write"], ours["read"], theirs["read"])
	}
	row(t, "drive: write at 100 MB/s, of the provider's own", "≥ 0.95", written, 0.95)
	row(t, "drive: read at 100 MB/s, of the provider's own", "≥ 0.95", read, 0.95)
}
