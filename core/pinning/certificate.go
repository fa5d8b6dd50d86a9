// Package pinning trusts a server by the fingerprint of its certificate, which a person
// has compared, in place of an authority.
package pinning

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"deftheron/core/store"
)

// CertificateOption is the option by which a certificate is pinned that no
// authority vouches for.
func CertificateOption() store.Option {
	return store.Option{Name: "certificate", ConnectionOption: true, Title: "Certificate's SHA-256",
		Help: "for a server without a trusted certificate: the SHA-256 of its certificate, which is then the only one accepted"}
}

// PinnedTLS returns settings of TLS that accept exactly the certificate that has
// the SHA-256 given, whoever vouches for it and whenever it expires; nil, which is
// what the system trusts, where none is given.
func PinnedTLS(sum string) (*tls.Config, error) {
	if sum == "" {
		return nil, nil
	}
	text := strings.ToLower(sum)
	text = strings.TrimPrefix(strings.TrimPrefix(text, "sha256:"), "sha-256:")
	wanted, err := hex.DecodeString(strings.NewReplacer(":", "", " ", "").Replace(text))
	if err != nil || len(wanted) != sha256.Size {
		return nil, &store.OptionError{Option: "certificate",
			Reason: fmt.Sprintf("%q is not a SHA-256; give 64 hexadecimal digits, with or without colons", sum)}
	}
	return &tls.Config{
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, // what is verified instead follows
		VerifyConnection: func(state tls.ConnectionState) error {
			if found := sha256.Sum256(state.PeerCertificates[0].Raw); !bytes.Equal(found[:], wanted) {
				return &pinError{found[:]}
			}
			return nil
		},
	}, nil
}

// pinError is another certificate than the one that was pinned.
type pinError struct{ found []byte }

func (e *pinError) Error() string {
	return "the certificate is another one: its SHA-256 is " + fingerprint(e.found)
}

func fingerprint(sum []byte) string {
	return strings.ToUpper(strings.ReplaceAll(fmt.Sprintf("% x", sum), " ", ":"))
}

// CertificateProblem says what is wrong with a server's certificate and how to
// accept it, "" where the error is about something else.
func CertificateProblem(err error, host string) string {
	var other *pinError
	if errors.As(err, &other) {
		return fmt.Sprintf("%s shows another certificate than the one accepted when it was linked: its SHA-256 is now %s; "+
			"ask who runs it whether it was renewed, and only then accept the certificate %s",
			host, fingerprint(other.found), fingerprint(other.found))
	}
	var verification *tls.CertificateVerificationError
	if !errors.As(err, &verification) || len(verification.UnverifiedCertificates) == 0 {
		return ""
	}
	certificate := verification.UnverifiedCertificates[0]
	sum := sha256.Sum256(certificate.Raw)
	accept := "compare its SHA-256 with whoever runs the server, and then accept the certificate " + fingerprint(sum[:])
	var invalid x509.CertificateInvalidError
	var name x509.HostnameError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		when := fmt.Sprintf("expired on %s", certificate.NotAfter.UTC().Format(time.DateOnly))
		if time.Now().Before(certificate.NotBefore) {
			when = fmt.Sprintf("is valid only from %s", certificate.NotBefore.UTC().Format(time.DateOnly))
		}
		return fmt.Sprintf("the certificate of %s %s; have it renewed, or %s", host, when, accept)
	case errors.As(err, &name):
		return fmt.Sprintf("the certificate of %s is for another name (%s); use that name in the URL, or %s", host,
			strings.Join(certificate.DNSNames, ", "), accept)
	}
	return fmt.Sprintf("no authority that this machine trusts vouches for the certificate of %s (it is of %s, by %s, valid until %s); %s",
		host, certificate.Subject.CommonName, certificate.Issuer.CommonName, certificate.NotAfter.UTC().Format(time.DateOnly), accept)
}
