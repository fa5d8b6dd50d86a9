package contract

import "time"

// Certificate says what a migration has verified at its targets. The files
// themselves follow it in each form in which it is written.
type Certificate struct {
	Run    string    `json:"run" doc:"The final pass."`
	Job    string    `json:"job"`
	Made   time.Time `json:"made"`
	Routes []Route   `json:"routes"`
	Settings
	Steps    []StepRun    `json:"steps" doc:"The runs before it."`
	Verified Count        `json:"verified"`
	By       []VerifiedBy `json:"by" doc:"Files by kind of hash."`
	// Unverified are those that are at the source, and not verified at the target.
	Unverified      Count        `json:"unverified"`
	Why             []CauseCount `json:"why" doc:"Reasons, by cause."`
	Excluded        Count        `json:"excluded" doc:"Excluded files."`
	FoldersExcluded int64        `json:"folders_excluded" doc:"Excluded folders, with their content."`
	// Sharing is of a migration that carries share lists over.
	Sharing *CertifiedSharing `json:"sharing,omitempty" doc:"Share lists that were carried over."`
	// Annotations is of a migration that carries tags and comments over.
	Annotations *CertifiedAnnotations `json:"annotations,omitempty" doc:"Tags and comments that were carried over."`
	Folders     int64                 `json:"folders" doc:"Folders of the sources that hold files."`
	Digest      string                `json:"digest,omitempty" doc:"sha256=HEXADECIMAL, over all of it and its files; docs/jobs.md says how."`
}

// CertifiedSharing counts the rights of share lists, of which each person has one an entry.
type CertifiedSharing struct {
	Entries int64        `json:"entries" doc:"Entries of the sources with a share list of their own."`
	Carried int64        `json:"carried" doc:"Rights that people have at the target as at the source."`
	Lesser  int64        `json:"lesser" doc:"Rights that people have at the target as lesser ones."`
	Missing int64        `json:"missing" doc:"Rights that people do not have at the target."`
	Why     []CauseCount `json:"why" doc:"Reasons for lesser and missing ones, by cause."`
}

// CertifiedAnnotations counts the tags and comments of the sources that are at the target.
type CertifiedAnnotations struct {
	Entries  int64 `json:"entries" doc:"Files and folders at the target that have all tags and comments of the source."`
	Tags     int64 `json:"tags"`
	Comments int64 `json:"comments"`
	Missing  int64 `json:"missing" doc:"Files and folders with tags or comments that are not at the target."`
}

// CertifiedShare is a right that was not carried over as it was.
type CertifiedShare struct {
	Address string `json:"address"`
	Target  string `json:"target"`
	Kind    string `json:"kind"`
	Person  string `json:"person,omitempty"`
	Becomes string `json:"becomes,omitempty" doc:"Who it is at the target."`
	Right   string `json:"right,omitempty" doc:"view, comment, edit, owner or link; empty if the share list could not be read."`
	Cause   string `json:"cause"`
}

// VerifiedBy counts the files that were verified with one kind of hash.
type VerifiedBy struct {
	Kind  string `json:"kind" doc:"crc64nvme, md5, sha256, …, or size."`
	Items int64  `json:"items"`
	Bytes int64  `json:"bytes"`
}

// CertifiedFolder is what a folder of a source holds.
type CertifiedFolder struct {
	Address  string `json:"address"`
	Files    int64  `json:"files"`
	Bytes    int64  `json:"bytes"`
	Verified int64  `json:"verified" doc:"Files."`
}

// CertifiedFile is a file of a source.
type CertifiedFile struct {
	Address      string `json:"address"`
	Target       string `json:"target"`
	Bytes        int64  `json:"bytes"`
	Verification string `json:"verification,omitempty" doc:"KIND=HEXADECIMAL; empty if not verified."`
	Digest       string `json:"digest,omitempty" doc:"The BLAKE3 of the content, as blake3=HEXADECIMAL."`
	Cause        string `json:"cause,omitempty" doc:"Why it is not verified."`
	Run          string `json:"run,omitempty" doc:"The run that transferred it; empty if it was found at the target."`
}

// VerifiedFile is one line of holding the files at the target to a certificate: a file
// that does not hold what is certified, or, last, the Summary.
type VerifiedFile struct {
	Target  string           `json:"target,omitempty"`
	Outcome string           `json:"outcome,omitempty" enum:"differs,missing,unreadable,not-certified"`
	Why     string           `json:"why,omitempty"`
	Summary *VerifiedSummary `json:"summary,omitempty"`
	Problem *Problem         `json:"problem,omitempty" doc:"Why it stopped early; there is no summary then."`
}

// VerifiedSummary counts them.
type VerifiedSummary struct {
	Holds        Count `json:"holds" doc:"Files whose BLAKE3 is the certified one."`
	Differs      Count `json:"differs"`
	Missing      Count `json:"missing"`
	Unreadable   Count `json:"unreadable"`
	NotCertified Count `json:"not_certified" doc:"Files without a BLAKE3 in the certificate."`
}

// Checking is a paper that is compared with what was handed out.
type Checking struct {
	SHA256 string `json:"sha256" pattern:"^[0-9a-f]{64}$" doc:"SHA-256 of the file, in hexadecimal."`
}

// Checked is what is known of a paper that was handed out.
type Checked struct {
	Run    string    `json:"run"`
	Kind   string    `json:"kind" enum:"report,certificate,survey"`
	Format string    `json:"format"`
	At     time.Time `json:"at" doc:"When it was issued."`
	Digest string    `json:"digest,omitempty" doc:"Certificates: the digest that the records give now."`
	Stands bool      `json:"stands" doc:"Whether the records still agree. A report may differ if its run continued."`
}
