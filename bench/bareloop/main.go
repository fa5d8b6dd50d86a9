// Command bareloop moves known objects from one bucket to another, or copies known files
// from one folder to another, and nothing else: no listing, no comparing, no records, no
// verification. It is what the benchmarks hold a run against, and has to stay as small and as
// honest as it is: the same library, the same transport settings, the same number of
// workers.
//
// It reads the keys, each with its size, from standard input, and prints how many
// seconds it took.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"golang.org/x/sys/unix"
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
	disk := flag.Bool("disk", false, "from and to are folders, whose folders are there; each 500 files are synced together, before "+
		"their names")
	seal := flag.String("seal", "", "an age recipient that each file is sealed to on its way; of folders")
	workers := flag.Int("workers", 8, "how many move at once")
	relayed := flag.String("relay", "", "URL of what is served at the endpoint, and nothing is moved")
	certificate := flag.String("certificate", "", "PEM file of the certificate that the relay shows and trusts")
	key := flag.String("key", "", "PEM file of its key")
	flag.Parse()
	if *relayed != "" {
		relay(*relayed, *endpoint, *certificate, *key)
	}
	transport := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}).DialContext,
		MaxIdleConnsPerHost: 64, WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10, DisableCompression: true,
	}
	core, err := minio.NewCore(*endpoint, &minio.Options{
		Creds:  credentials.NewStaticV4(os.Getenv("BARELOOP_KEY"), os.Getenv("BARELOOP_SECRET"), ""),
		Region: "us-east-1", BucketLookup: minio.BucketLookupPath, Transport: transport, MaxRetries: 1,
	})
	if err != nil && !*disk {
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
	recipient := recipientOf(*seal)
	begun := time.Now()
	if *disk {
		for batch := range slices.Chunk(objects, 500) {
			each(*workers, batch, func(o object) error {
				return copyFile(filepath.Join(*from, o.key), filepath.Join(*to, o.key)+partial, recipient)
			})
			syncAll(*to)
			each(*workers, batch, func(o object) error {
				return os.Rename(filepath.Join(*to, o.key)+partial, filepath.Join(*to, o.key))
			})
		}
		syncAll(*to)
	} else {
		each(*workers, objects, func(o object) error { return move(core, *from, *to, *prefix, o) })
	}
	fmt.Printf("%.6f\n", time.Since(begun).Seconds())
}

// each does something with each object, by so many workers.
func each(workers int, objects []object, do func(object) error) {
	queue := make(chan object)
	var group sync.WaitGroup
	for range workers {
		group.Go(func() {
			for o := range queue {
				if err := do(o); err != nil {
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
}

// partial is what the name of a file ends in that is not synced yet.
const partial = ".partial"

// recipientOf reads a recipient; nil for none.
func recipientOf(text string) age.Recipient {
	if text == "" {
		return nil
	}
	recipient, err := age.ParseX25519Recipient(text)
	if err != nil {
		log.Fatal(err)
	}
	return recipient
}

// copyFile copies a file, sealed to a recipient where that is not nil.
func copyFile(from, to string, recipient age.Recipient) error {
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	if recipient == nil {
		if _, err := io.Copy(target, source); err != nil {
			return err
		}
		return target.Close()
	}
	buffered := bufio.NewWriterSize(target, 128<<10)
	sealed, err := age.Encrypt(buffered, recipient)
	if err != nil {
		return err
	}
	if _, err := io.Copy(sealed, source); err != nil {
		return err
	}
	if err := errors.Join(sealed.Close(), buffered.Flush()); err != nil {
		return err
	}
	return target.Close()
}

func syncAll(folder string) {
	dir, err := os.Open(folder)
	if err != nil {
		log.Fatal(err)
	}
	defer dir.Close()
	if err := unix.Syncfs(int(dir.Fd())); err != nil {
		log.Fatal(err)
	}
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
	_, err = core.PutObject(ctx, to, prefix+o.key, body, o.size, "", "",
		minio.PutObjectOptions{DisableContentSha256: true, DisableMultipart: true})
	return err
}
