package runner

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"deftheron/contract"
	"deftheron/core/certify"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// certify makes the certificate of a final pass that has come to its end, and returns
// how that ended: with less than all verified, it is partial.
func (r *Runner) certify(ctx context.Context, row records.Run, routes []transfer.Route, result transfer.Result) transfer.Result {
	if result.State != run.Done && result.State != run.Partial {
		return result
	}
	made, err := r.makeCertificate(ctx, row, routes)
	if err != nil || ctx.Err() != nil {
		return brokenOff(ctx, err, "it was cancelled by a person, before what is verified was certified",
			"what is at the target could not be certified: ")
	}
	if result.State == run.Done && made.Unverified.Items > 0 {
		result = transfer.Result{State: run.Partial, Cause: plan.CauseUnverified, Why: some(made.Unverified.Items, "file") +
			" at the source could not be verified at the target; the certificate tells which and why"}
	}
	return result
}

// brokenOff is how a run ended that looks at both sides and moves nothing, and did not
// come to its end. cancelled says so where a person has cancelled it; failed goes before
// the error.
func brokenOff(ctx context.Context, err error, cancelled, failed string) transfer.Result {
	switch {
	case errors.Is(context.Cause(ctx), transfer.ErrCancelled):
		return transfer.Result{State: run.Cancelled, Cause: plan.CauseCancelled, Why: cancelled}
	case ctx.Err() != nil:
		return transfer.Result{}
	case store.WaitsForPerson(err):
		return transfer.Result{State: run.Held, Cause: plan.CauseOf(err), Why: err.Error()}
	}
	return transfer.Result{State: run.Failed, Cause: plan.CauseListing, Why: failed + err.Error()}
}

func some(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprint(n, " ", what, "s")
}

func (r *Runner) makeCertificate(ctx context.Context, row records.Run, routes []transfer.Route) (contract.Certificate, error) {
	made := contract.Certificate{Run: row.ID, Job: row.Job, Made: time.Now().UTC().Truncate(time.Second), Settings: job.SettingsOf(row.Rules),
		By: []contract.VerifiedBy{}, Why: []contract.CauseCount{}}
	for _, route := range row.Routes {
		made.Routes = append(made.Routes, contract.Route{From: route.From, To: route.To})
	}
	if err := r.stepsOf(ctx, row, &made); err != nil {
		return made, err
	}
	if err := r.db.ForgetCertificate(ctx, row.Number); err != nil {
		return made, err
	}
	var err error
	if made.Sharing, err = r.carryShares(ctx, row, routes); err != nil {
		return made, err
	}
	if made.Annotations, err = r.certifiedAnnotations(ctx, row, routes); err != nil {
		return made, err
	}
	tally, err := r.certifyFiles(ctx, row, routes)
	if err != nil {
		return made, err
	}
	setTally(&made, tally)
	for _, err := range r.db.CertifiedFolders(ctx, row.Number) {
		if err != nil {
			return made, err
		}
		made.Folders++
	}
	head, err := json.Marshal(made)
	if err != nil {
		return made, err
	}
	if made.Digest, err = r.digest(ctx, row.Number, head); err != nil {
		return made, err
	}
	return made, r.db.AddCertificate(ctx, records.Certificate{Run: row.Number, MadeAt: made.Made, Head: head, Digest: made.Digest})
}

// certifyFiles records each file of the sources as it is verified now.
func (r *Runner) certifyFiles(ctx context.Context, row records.Run, routes []transfer.Route) (certify.Tally, error) {
	const batch = 500
	var files []records.CertifiedFile
	written := int64(0)
	flush := func() error {
		err := r.db.AddCertified(ctx, row.Number, written, files)
		written += int64(len(files))
		files = files[:0]
		return err
	}
	tally, err := certify.Take(ctx, routes, row.Rules, row.CreatedAt, r.db, func(one certify.File) error {
		files = append(files, records.CertifiedFile{Folder: one.Folder(), Address: one.Address, Target: one.Target, Size: one.Size,
			Verification: one.Verification, Digest: one.Digest, Cause: string(one.Cause), By: one.Run})
		if len(files) < batch {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	return tally, err
}

// setTally puts the counts into the texts of a certificate.
func setTally(made *contract.Certificate, tally certify.Tally) {
	made.Verified, made.Unverified = contract.Count(tally.Verified), contract.Count(tally.Unverified)
	made.Excluded, made.FoldersExcluded = contract.Count(tally.Excluded), tally.FoldersExcluded
	for _, by := range tally.By {
		made.By = append(made.By, contract.VerifiedBy{Kind: by.Kind, Items: by.Items, Bytes: by.Bytes})
	}
	for _, why := range tally.Why {
		words := messages.Of(why.Cause)
		made.Why = append(made.Why, contract.CauseCount{State: "unverified", Cause: string(why.Cause), Meaning: words.Sentence,
			Remedy: words.Remedy, Items: why.Items, Bytes: why.Bytes})
	}
}

// stepsOf adds the runs that led to a certificate: those since the last survey, or
// since what had been moved was back.
func (r *Runner) stepsOf(ctx context.Context, row records.Run, made *contract.Certificate) error {
	_, runs, err := r.passed(ctx, row.Job)
	made.Steps = []contract.StepRun{}
	for _, run := range runs {
		if run.Step == job.Survey || run.Step == job.BringBack {
			made.Steps = made.Steps[:0]
		}
		if run.Number < row.Number && run.Step != job.BringBack {
			made.Steps = append(made.Steps, stepRun(run))
		}
	}
	return err
}

// digest is over the head of a certificate, and a line of JSON for each of its files and
// for each right that was not carried over as it was.
func (r *Runner) digest(ctx context.Context, run int64, head []byte) (string, error) {
	digest := certify.NewDigest()
	digest.Line(head)
	for file, err := range r.db.Certified(ctx, run, false) {
		if err != nil {
			return "", err
		}
		line, err := json.Marshal(shownFile(file))
		if err != nil {
			return "", err
		}
		digest.Line(line)
	}
	for one, err := range r.db.CertifiedShares(ctx, run) {
		if err != nil {
			return "", err
		}
		line, err := json.Marshal(shownShare(one))
		if err != nil {
			return "", err
		}
		digest.Line(line)
	}
	return digest.String(), nil
}

func shownFile(file records.CertifiedFile) contract.CertifiedFile {
	return contract.CertifiedFile{Address: file.Address, Target: file.Target, Bytes: file.Size, Verification: file.Verification,
		Digest: file.Digest, Cause: file.Cause, Run: file.By}
}

// Certificate returns the certificate of a run; the error is records.ErrNotFound if it has none.
func (r *Runner) Certificate(ctx context.Context, id string) (made contract.Certificate, err error) {
	row, err := r.db.Run(ctx, id)
	if err != nil {
		return made, err
	}
	kept, err := r.db.Certificate(ctx, row.Number)
	if err != nil {
		return made, err
	}
	err = json.Unmarshal(kept.Head, &made)
	made.Digest = kept.Digest
	return made, err
}

// CertifiedFiles yields the files of a run's certificate. unverified yields those alone
// that are not verified.
func (r *Runner) CertifiedFiles(ctx context.Context, id string, unverified bool) iter.Seq2[contract.CertifiedFile, error] {
	return func(yield func(contract.CertifiedFile, error) bool) {
		row, err := r.db.Run(ctx, id)
		if err != nil {
			yield(contract.CertifiedFile{}, err)
			return
		}
		for file, err := range r.db.Certified(ctx, row.Number, unverified) {
			if !yield(shownFile(file), err) {
				return
			}
		}
	}
}

// CertifiedShares yields the rights that a run's certificate says were not carried over as
// they were.
func (r *Runner) CertifiedShares(ctx context.Context, id string) iter.Seq2[contract.CertifiedShare, error] {
	return func(yield func(contract.CertifiedShare, error) bool) {
		row, err := r.db.Run(ctx, id)
		if err != nil {
			yield(contract.CertifiedShare{}, err)
			return
		}
		for one, err := range r.db.CertifiedShares(ctx, row.Number) {
			if !yield(shownShare(one), err) {
				return
			}
		}
	}
}

// CertifiedFolders yields the folders of a run's certificate.
func (r *Runner) CertifiedFolders(ctx context.Context, id string) iter.Seq2[contract.CertifiedFolder, error] {
	return func(yield func(contract.CertifiedFolder, error) bool) {
		row, err := r.db.Run(ctx, id)
		if err != nil {
			yield(contract.CertifiedFolder{}, err)
			return
		}
		for one, err := range r.db.CertifiedFolders(ctx, row.Number) {
			if !yield(contract.CertifiedFolder{Address: one.Folder, Files: one.Files, Bytes: one.Bytes, Verified: one.Verified}, err) {
				return
			}
		}
	}
}

// HandedOut keeps that a paper was handed out, so that it can be told from an altered
// one later. sum is the SHA-256 of its bytes, in hexadecimal.
func (r *Runner) HandedOut(ctx context.Context, run, kind, format, sum string) error {
	return r.db.AddPaper(ctx, records.Paper{SHA256: sum, Run: run, Kind: kind, Format: format, At: time.Now()})
}

// CheckPaper looks up a report or certificate. The error is store.ErrNotFound if it was
// changed after it was issued, or was never issued.
func (r *Runner) CheckPaper(ctx context.Context, sum string) (contract.Checked, error) {
	paper, err := r.db.Paper(ctx, sum)
	if errors.Is(err, records.ErrNotFound) {
		err = messages.With(store.Errorf(store.ErrNotFound, "this service did not hand out this file: it was altered since, or is from "+
			"another service; get the report again"), "heron run report RUN")
	}
	if err != nil {
		return contract.Checked{}, err
	}
	checked := contract.Checked{Run: paper.Run, Kind: paper.Kind, Format: paper.Format, At: paper.At, Stands: true}
	if paper.Kind != "certificate" {
		return checked, nil
	}
	row, err := r.db.Run(ctx, paper.Run)
	if err != nil {
		return checked, err
	}
	kept, err := r.db.Certificate(ctx, row.Number)
	if err != nil {
		checked.Stands = false
		return checked, nil
	}
	checked.Digest, err = r.digest(ctx, row.Number, kept.Head)
	checked.Stands = checked.Digest == kept.Digest && !kept.MadeAt.After(paper.At)
	return checked, err
}
