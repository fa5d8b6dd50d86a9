package report

import (
	"bufio"
	"context"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"iter"
	"strconv"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/plan"
)

// Certificates is where a certificate is read from.
type Certificates interface {
	Certificate(ctx context.Context, id string) (contract.Certificate, error)
	CertifiedFiles(ctx context.Context, id string, unverified bool) iter.Seq2[contract.CertifiedFile, error]
	CertifiedShares(ctx context.Context, id string) iter.Seq2[contract.CertifiedShare, error]
	CertifiedFolders(ctx context.Context, id string) iter.Seq2[contract.CertifiedFolder, error]
}

// WriteCertificate writes the certificate of a run. It streams, and is the same bytes
// each time.
func WriteCertificate(ctx context.Context, w io.Writer, source Certificates, id string, format Format) error {
	made, err := source.Certificate(ctx, id)
	if err != nil {
		return err
	}
	buffered := bufio.NewWriterSize(w, 64<<10)
	switch format {
	case HTML:
		err = certificateHTML(ctx, buffered, source, made)
	case CSV:
		err = certificateCSV(ctx, buffered, source, made)
	case PeopleCSV:
		err = sharesCSV(ctx, buffered, source, made)
	default:
		err = certificateJSON(ctx, buffered, source, made)
	}
	if err != nil {
		return err
	}
	return buffered.Flush()
}

// certificateJSON writes one JSON value in which the head and each file stand on a
// line of their own, as the digest is taken of them.
func certificateJSON(ctx context.Context, w io.Writer, source Certificates, made contract.Certificate) error {
	digest := made.Digest
	made.Digest = ""
	head, err := json.Marshal(made)
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, "{\"certificate\":\n%s\n,\"files\":[", head); err != nil {
		return err
	}
	separator := "\n"
	for file, err := range source.CertifiedFiles(ctx, made.Run, false) {
		if err != nil {
			return err
		}
		line, err := json.Marshal(file)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s%s\n", separator, line); err != nil {
			return err
		}
		separator = ","
	}
	if made.Sharing != nil {
		if err := sharesJSON(ctx, w, source, made.Run); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(w, "],\"digest\":%q}\n", digest)
	return err
}

// sharesJSON writes the rights that were not carried over, each on a line of its own.
func sharesJSON(ctx context.Context, w io.Writer, source Certificates, run string) error {
	separator := "],\"shares\":[\n"
	for one, err := range source.CertifiedShares(ctx, run) {
		if err != nil {
			return err
		}
		line, err := json.Marshal(one)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s%s\n", separator, line); err != nil {
			return err
		}
		separator = ","
	}
	return nil
}

// sharesCSV writes the rights of share lists that were not carried over as they were.
func sharesCSV(ctx context.Context, w io.Writer, source Certificates, made contract.Certificate) error {
	table := csv.NewWriter(w)
	if err := table.Write([]string{"address", "target", "kind", "person", "at the target", "right", "cause"}); err != nil {
		return err
	}
	for one, err := range source.CertifiedShares(ctx, made.Run) {
		if err != nil {
			return err
		}
		if err := table.Write([]string{plainCell(one.Address), plainCell(one.Target), one.Kind, plainCell(one.Person), plainCell(one.Becomes),
			one.Right, one.Cause}); err != nil {
			return err
		}
	}
	table.Flush()
	return table.Error()
}

func certificateCSV(ctx context.Context, w io.Writer, source Certificates, made contract.Certificate) error {
	table := csv.NewWriter(w)
	if err := table.Write([]string{"address", "target", "bytes", "verification", "blake3", "cause", "transferred by"}); err != nil {
		return err
	}
	for one, err := range source.CertifiedFiles(ctx, made.Run, false) {
		if err != nil {
			return err
		}
		if err := table.Write([]string{plainCell(one.Address), plainCell(one.Target), strconv.FormatInt(one.Bytes, 10), one.Verification,
			strings.TrimPrefix(one.Digest, "blake3="), one.Cause, one.Run}); err != nil {
			return err
		}
	}
	table.Flush()
	return table.Error()
}

//go:embed certificate.html
var certificatePage string

var certificateTemplate = template.Must(template.New("certificate").Funcs(template.FuncMap{
	"bytes": Bytes, "count": Count, "utc": utc, "style": styleSheet, "files": files, "plural": plural, "step": stepWords, "kind": kindWords,
	"rules": Rules,
}).Parse(certificatePage))

// certificateData is what the page is made of; folders and files are streamed into it.
type certificateData struct {
	contract.Certificate
	err    error
	ctx    context.Context
	source Certificates
}

// FolderList yields the folders.
func (d *certificateData) FolderList() iter.Seq[contract.CertifiedFolder] {
	return values(d, d.source.CertifiedFolders(d.ctx, d.Run))
}

// UnverifiedList yields the files that are not verified.
func (d *certificateData) UnverifiedList() iter.Seq[contract.CertifiedFile] {
	return values(d, d.source.CertifiedFiles(d.ctx, d.Run, true))
}

// ShareList yields the rights that were not carried over as they were.
func (d *certificateData) ShareList() iter.Seq[contract.CertifiedShare] {
	return values(d, d.source.CertifiedShares(d.ctx, d.Run))
}

// values yields values up to an error, which is kept.
func values[T any](d *certificateData, all iter.Seq2[T, error]) iter.Seq[T] {
	return func(yield func(T) bool) {
		for one, err := range all {
			if err != nil {
				d.err = err
				return
			}
			if !yield(one) {
				return
			}
		}
	}
}

func certificateHTML(ctx context.Context, w io.Writer, source Certificates, made contract.Certificate) error {
	data := &certificateData{Certificate: made, ctx: ctx, source: source}
	if err := certificateTemplate.Execute(w, data); err != nil {
		return err
	}
	return data.err
}

func files(n int64) string { return Count(n) + " " + plural(n, "file", "files") }

func plural(n int64, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}

// utc shows a moment so that it is the same wherever the page is made.
func utc(at any) string {
	switch at := at.(type) {
	case time.Time:
		return at.UTC().Format("2006-01-02 15:04:05 UTC")
	case *time.Time:
		return at.UTC().Format("2006-01-02 15:04:05 UTC")
	}
	return ""
}

func stepWords(step string) string {
	return contract.Capital(job.Words(step))
}

func kindWords(kind string) string {
	switch kind {
	case plan.VerifiedBySize:
		return "size only, as requested"
	case "crc64nvme":
		return "CRC-64/NVME"
	}
	return strings.ToUpper(kind)
}
