// Command bareloop moves known objects from one bucket to another, or copies
// nothing else: no listing, no comparing, no records, no proof. It is what the
// benchmarks hold a run against, and has to stay as small and as honest as it
// is: the same library, the same transport settings, the same number of workers.
//
// It reads the keys, each with its size, from standard input, and prints how many
// seconds it took.
package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"log"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

type object struct {
	key  string
	size int64
}

func main() {
	endpoint := flag.String("endpoint", "", "HOST:PORT")
	from := flag.String("from", "", "bucket")
	to := flag.String("to", "", "bucket")
	prefix := flag.String("prefix", "", "of the keys at the target")
	list := flag.String("list", "", "buckets to list below the prefix, each by one lister; nothing is moved then")
	workers := flag.Int("workers", 8, "how many move at once")
	flag.Parse()
	transport := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}).DialContext,
		MaxIdleConnsPerHost: 64, WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10, DisableCompression: true,
	}
	core, err := minio.NewCore(*endpoint, &minio.Options{
		Creds:  credentials.NewStaticV4(os.Getenv("BARELOOP_KEY"), os.Getenv("BARELOOP_SECRET"), ""),
		Region: "us-east-1", BucketLookup: minio.BucketLookupPath, Transport: transport, MaxRetries: 1,
	})
	if err != nil {
		log.Fatal(err)
	}
	if *list != "" {
		begun := time.Now()
		listAll(core, strings.Split(*list, ","), *prefix)
		fmt.Printf("%.6f\n", time.Since(begun).Seconds())
		return
	}
	var objects []object
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		var o object
		if _, err := fmt.Sscan(lines.Text(), &o.key, &o.size); err != nil {
			log.Fatal(err)
		}
		objects = append(objects, o)
	}
	begun := time.Now()
	queue := make(chan object)
	var group sync.WaitGroup
	for range *workers {
		group.Go(func() {
			for o := range queue {
				if err := move(core, *from, *to, *prefix, o); err != nil {
					log.Fatal(err)
				}
			}
		})
	}
	for _, o := range objects {
		queue <- o
	}
	close(queue)
	group.Wait()
	fmt.Printf("%.6f\n", time.Since(begun).Seconds())
}

// listAll lists the buckets at once, page after page, and does nothing with them.
func listAll(core *minio.Core, buckets []string, prefix string) {
	var group sync.WaitGroup
	for _, bucket := range buckets {
		group.Go(func() {
			for token := ""; ; {
				page, err := core.ListObjectsV2(bucket, prefix, "", token, "", 1000)
				if err != nil {
					log.Fatal(err)
				}
				if !page.IsTruncated {
					return
				}
				token = page.NextContinuationToken
			}
		})
	}
	group.Wait()
}

func move(core *minio.Core, from, to, prefix string, o object) error {
	ctx := context.Background()
	body, _, _, err := core.GetObject(ctx, from, o.key, minio.GetObjectOptions{})
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = core.PutObject(ctx, to, prefix+o.key, body, o.size, "", "", minio.PutObjectOptions{DisableContentSha256: true, DisableMultipart: true})
	return err
}
