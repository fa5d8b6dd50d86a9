// Package s3 makes a bucket of an S3-compatible object store an account.
//
// Objects are addressed path style. A key is split at its slashes into names,
// and nothing is cleaned: "a//b" is the entry b in the folder with the empty
// name in a; ".." is a name; an empty object whose key ends in a slash is the
// marker of a folder, and one that has content is a file with the empty name
// in that folder.
//
// What servers of the kind differ in is found out before the first write (see
// probe.go): whether a CRC64NVME sent with the content is verified, whether an
// ETag is the MD5, whether conditions are obeyed, and whether empty names last.
package s3

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/s3utils"

	"deftheron/core/store"
)

// Provider is the provider "s3".
type Provider struct{}

// Name implements store.Provider.
func (Provider) Name() string { return "s3" }

// Title implements store.Provider.
func (Provider) Title() string { return "S3-compatible object store" }

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{
		{Name: "endpoint", Title: "Endpoint", Required: true, Help: "the server's URL, such as https://objects.example.org:9000"},
		{Name: "bucket", Title: "Bucket", Required: true, Help: "the bucket's name"},
		{Name: "key", Title: "Access key", Required: true, Help: "the access key's id"},
		{Name: "secret", Title: "Secret key", Required: true, Secret: true, Help: "the secret that belongs to the access key"},
		{Name: "region", ConnectionOption: true, Title: "Region", Default: "us-east-1", Help: "the region that requests are signed for"},
		{Name: "part-size", ConnectionOption: true, Title: "Part size (MiB)", Default: "64",
			Help: "the size of a part of a large file, in MiB, 5 to 5120"},
		{Name: "parts-above", ConnectionOption: true, Title: "Parts above (MiB)", Default: "1024",
			Help: "files above this size in MiB, at most 5120, are sent in parts"},
	}
}

// account implements store.Store.
type account struct {
	endpoint   *url.URL
	bucket     string
	prefix     string // of the account's start; "" or ending in "/"
	key        string
	options    minio.Options
	signer     *signer
	core       *minio.Core // puts checksums that are not known ahead into trailers
	plain      *minio.Core // sends no trailers
	partSize   int64
	partsAbove int64
	// names are the rules on names, and filledNames those of a server that keeps no empty name.
	names, filledNames store.NameRules

	mu       sync.Mutex
	probed   *findings
	lockless atomic.Bool // the bucket has no Object Lock

	versionless atomic.Bool // the bucket keeps no versions for good
	lasting     atomic.Bool // it keeps those that it keeps
}

// Open implements store.Provider. It lists one key, which needs the host, the
// sign-in and the bucket.
func (p Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	a, err := configure(opening)
	if err != nil {
		return nil, err
	}
	if err := a.connect(ctx, opening); err != nil {
		return nil, err
	}
	if err := a.reach(ctx); err != nil {
		return nil, err
	}
	return a, nil
}

// connect makes the clients that requests are sent with.
func (a *account) connect(ctx context.Context, opening store.Opening) error {
	secret, err := opening.Secrets.Load(ctx)
	if err != nil {
		return err
	}
	a.signer = &signer{key: a.key, secret: strings.TrimSpace(string(secret)), region: opening.Options["region"]}
	if a.signer.region == "" {
		a.signer.region = "us-east-1"
	}
	base := opening.Transport
	if base == nil {
		base = http.DefaultTransport
	}
	a.options = minio.Options{
		Creds: credentials.NewStaticV4(a.key, strings.TrimSpace(string(secret)), ""), Secure: a.endpoint.Scheme == "https",
		Region: opening.Options["region"], BucketLookup: minio.BucketLookupPath,
		Transport: bounding{opening.Gates().RoundTripper(base)}, TrailingHeaders: true,
		MaxRetries: 1, // what is tried again, and when, is the engine's to say
	}
	plain := a.options
	plain.TrailingHeaders = false
	if a.core, err = minio.NewCore(a.endpoint.Host, &a.options); err == nil {
		a.plain, err = minio.NewCore(a.endpoint.Host, &plain)
	}
	if err != nil {
		return &store.OptionError{Option: "endpoint", Reason: fmt.Sprintf("%v; give a URL such as https://objects.example.org:9000", err)}
	}
	return nil
}

// ResourceOption implements store.ResourceLister.
func (Provider) ResourceOption() string { return "bucket" }

// ListResources implements store.ResourceLister: the buckets that the key may list.
func (p Provider) ListResources(ctx context.Context, opening store.Opening) ([]store.Resource, error) {
	opening.Options = maps.Clone(opening.Options)
	opening.Options["bucket"] = "none-of-them" // so that the rest is checked
	a, err := configure(opening)
	if err != nil {
		return nil, err
	}
	if err := a.connect(ctx, opening); err != nil {
		return nil, err
	}
	buckets, err := a.core.ListBuckets(ctx)
	if err != nil {
		return nil, a.explain(wrap("list the buckets", err, false))
	}
	found := make([]store.Resource, len(buckets))
	for i, bucket := range buckets {
		found[i] = store.Resource{Value: bucket.Name}
	}
	return found, nil
}

func configure(opening store.Opening) (*account, error) {
	o := opening.Options
	endpoint, err := url.Parse(o["endpoint"])
	if err != nil || endpoint.Host == "" || endpoint.Scheme != "http" && endpoint.Scheme != "https" || strings.Trim(endpoint.Path, "/") != "" {
		return nil, &store.OptionError{Option: "endpoint",
			Reason: fmt.Sprintf("%q is not an endpoint; give a URL of scheme, host and port, such as https://objects.example.org:9000",
				o["endpoint"])}
	}
	if err := s3utils.CheckValidBucketName(o["bucket"]); err != nil {
		return nil, &store.OptionError{Option: "bucket",
			Reason: fmt.Sprintf("%q is not a valid bucket name; use 3 to 63 lower-case letters, digits, dots and hyphens", o["bucket"])}
	}
	a := &account{endpoint: endpoint, bucket: o["bucket"], key: o["key"], prefix: string(opening.Start)}
	a.names = store.NameRules{Keeper: "an object store", NoSteps: true, NoSlashes: true, UTF8: true, MostKeyBytes: 1024, Start: opening.Start}
	a.filledNames = a.names
	a.filledNames.NoEmpty = true
	if a.partSize, err = mebibytes("part-size", o["part-size"], 5, 64); err != nil {
		return nil, err
	}
	if a.partsAbove, err = mebibytes("parts-above", o["parts-above"], 0, 1024); err != nil {
		return nil, err
	}
	return a, nil
}

func mebibytes(option, value string, least, otherwise int64) (int64, error) {
	if value == "" {
		return otherwise << 20, nil
	}
	var n int64
	if _, err := fmt.Sscanf(value, "%d", &n); err != nil || n < least || n > 5120 || fmt.Sprint(n) != value {
		return 0, &store.OptionError{Option: option, Reason: fmt.Sprintf("%q is out of bounds; give a whole number of MiB from %d to 5120", value,
			least)}
	}
	return n << 20, nil
}

// reach asks for one key below the start.
func (a *account) reach(ctx context.Context) error {
	page, err := a.page(ctx, a.prefix, "", "", 1)
	if err == nil && a.prefix != "" && len(page.Objects)+len(page.Prefixes) == 0 {
		return store.Concerns(store.Errorf(store.ErrNotFound,
			"the starting folder /%s is not in the bucket %s; make it, or give another starting folder",
			strings.TrimSuffix(a.prefix, "/"), a.bucket), "start")
	}
	return a.explain(err)
}

// explain adds what to do to an error of the first request.
func (a *account) explain(err error) error {
	if err == nil {
		return nil
	}
	var dns *net.DNSError
	var operation *net.OpError
	var record tls.RecordHeaderError
	var answer minio.ErrorResponse
	errors.As(err, &answer)
	kind := store.KindOf(err)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return store.Concerns(store.Errorf(store.ErrTryAgain,
			"%s did not answer in time; check the host and port of the endpoint, and that no firewall is between", a.endpoint.Host), "endpoint")
	case errors.As(err, &dns):
		return store.Concerns(store.Errorf(store.ErrTryAgain, "the host %s is not known; check the endpoint", a.endpoint.Hostname()), "endpoint")
	case errors.As(err, &operation) && operation.Op == "dial":
		return store.Concerns(store.Errorf(store.ErrTryAgain,
			"nothing answers at %s (%v); check the host and port of the endpoint, and that the server runs",
			a.endpoint.Host, operation.Err), "endpoint")
	case errors.As(err, &record) && string(record.RecordHeader[:]) == "HTTP/":
		return &store.OptionError{Option: "endpoint", Reason: fmt.Sprintf("%s speaks no TLS; give the URL with http:// if that is intended",
			a.endpoint.Host)}
	case answer.Code == "NoSuchBucket":
		return store.Concerns(store.Errorf(store.ErrNotFound,
			"there is no bucket %q at %s; make it there, give another bucket, or check the endpoint", a.bucket,
			a.endpoint.Host), "bucket", "endpoint")
	case kind == store.ErrSignInExpired && answer.Code != "SignatureDoesNotMatch":
		return store.Concerns(store.Errorf(store.ErrSignInExpired, "%s does not know the access key %q; check it", a.endpoint.Host, a.key), "key")
	case answer.Code == "SignatureDoesNotMatch":
		return store.Concerns(store.Errorf(store.ErrSignInExpired,
			"the secret is not the one of the access key %q, or the region is not %q; check both", a.key, a.options.Region), "secret-file", "region")
	case answer.Code == "RequestTimeTooSkewed":
		return store.Errorf(store.ErrRefused, "the clocks of this machine and of %s differ too much; set this machine's clock", a.endpoint.Host)
	case kind == store.ErrRefused && answer.Code == "AccessDenied":
		return store.Concerns(store.Errorf(store.ErrRefused,
			"the access key %q may not list the bucket %q; allow it there, or give another access key", a.key,
			a.bucket), "key")
	case kind == store.ErrTryAgain || kind == store.ErrSlowDown:
		return store.Concerns(store.Errorf(kind, "%s cannot serve now (%v); try again in a moment, and check the host and port of the endpoint",
			a.endpoint.Host, err), "endpoint")
	case answer.Code == "" || answer.Code == answer.Message:
		return store.Concerns(store.Errorf(store.ErrRefused,
			"%s gives no answer of an S3-compatible server (%v); check the host and port of the endpoint",
			a.endpoint.Host, err), "endpoint")
	}
	return err
}

// Capabilities implements store.Store.
func (a *account) Capabilities() store.Capabilities {
	return store.Capabilities{
		ListFlat: a.ListFlat, Copy: a.Copy, Parts: a, Checksums: a, Clean: a.Clean, Prepare: a.Prepare, Owner: a.Owner, Locate: a.Locate,
		Lock: a.lock, Versions: versions{a},
	}
}

// Traits implements store.Store.
func (a *account) Traits() store.Traits {
	found := a.found()
	traits := store.Traits{
		Order: store.OrderByKey, Folders: store.FoldersImplied, FileBesideFolder: true, Revisions: store.RevisionsOfContent,
		Names: a.nameRules(), LargestFile: 5 << 40, TimePrecision: time.Second,
		VerificationKind: found.verification, Conditional: found.conditional, Whole: true, Streams: 8,
		Windows: []string{"The protocol has no conditional deletion that all servers obey: the object is checked just before it is deleted.",
			"A copy inside the store cannot be conditional: the target is checked just before, and a change in between " +
				"is overwritten."},
	}
	if !found.conditional {
		traits.Windows = append(traits.Windows,
			"This server does not obey conditions. What has a key is looked at just before it is written; a change in between would be overwritten.")
	}
	return traits
}

// nameRules are those of keys, of which the start of the account is a part. Servers and
// proxies on the way take "." and ".." for steps.
func (a *account) nameRules() *store.NameRules {
	if a.found().emptyNames {
		return &a.names
	}
	return &a.filledNames
}

// keyOf is the object's key of a place.
func (a *account) keyOf(place store.Ref) string {
	return a.prefix + string(place.Folder.Path) + place.Name
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(ctx context.Context) (string, error) { return "access key " + a.key, nil }

// Locate is store.Capabilities.Locate.
func (a *account) Locate(folder store.Folder) string {
	return "s3+" + a.endpoint.Scheme + "://" + a.endpoint.Host + "/" + a.bucket + "/" + a.prefix + string(folder.Path)
}

// wrap gives an error of the protocol its kind. sent says that the request may
// have changed something at the server.
func wrap(doing string, err error, sent bool) error {
	if err == nil || store.KindOf(err) != nil || errors.Is(err, context.Canceled) {
		return err
	}
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) || answer.StatusCode == 0 {
		return store.Transport(fmt.Errorf("could not %s: %w", doing, err), sent)
	}
	if kind := kindOf(answer); kind == store.ErrSlowDown {
		return store.SlowDown(0, fmt.Errorf("could not %s: %w", doing, err))
	} else {
		return store.Errorf(kind, "could not %s: %w", doing, err)
	}
}

func kindOf(answer minio.ErrorResponse) error {
	switch answer.Code {
	case "NoSuchKey", "NoSuchBucket", "NoSuchUpload", "NotFound":
		return store.ErrNotFound
	case "PreconditionFailed":
		return store.ErrChanged
	case "InvalidAccessKeyId", "XAdminUserNotFound", "SignatureDoesNotMatch", "ExpiredToken", "InvalidToken", "TokenRefreshRequired":
		return store.ErrSignInExpired
	case "SlowDown", "SlowDownRead", "SlowDownWrite", "TooManyRequests", "ServiceUnavailable":
		return store.ErrSlowDown
	case "BadDigest", "XAmzContentChecksumMismatch", "InvalidDigest", "IncompleteBody", "RequestTimeout", "OperationAborted",
		"ConditionalRequestConflict":
		return store.ErrTryAgain
	case "EntityTooLarge":
		return store.ErrTooLarge
	case "KeyTooLongError", "InvalidObjectName", "XMinioInvalidObjectName":
		return store.ErrNameRefused
	case "QuotaExceeded", "XMinioStorageFull", "InsufficientStorage":
		return store.ErrNoSpace
	case "ObjectParentIsFile", "ExistingObjectIsDirectory", "DirectoryObjectContainsData":
		return store.ErrExists
	}
	switch status := answer.StatusCode; {
	case status == http.StatusNotFound:
		return store.ErrNotFound
	case status == http.StatusPreconditionFailed:
		return store.ErrChanged
	case status == http.StatusTooManyRequests || status == http.StatusServiceUnavailable:
		return store.ErrSlowDown
	case status == http.StatusInsufficientStorage:
		return store.ErrNoSpace
	case status >= 500:
		return store.ErrTryAgain
	}
	return store.ErrRefused
}
