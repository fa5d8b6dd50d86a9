package main

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"log"
	"net/http"
	"os"
)

// relay serves what another server has, over TLS at both sides, until it is ended: by one
// certificate, which is trusted as well.
func relay(from, listen, certificate, key string) {
	text, err := os.ReadFile(certificate)
	if err != nil {
		log.Fatal(err)
	}
	trusted := x509.NewCertPool()
	trusted.AppendCertsFromPEM(text)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: trusted}, DisableCompression: true}}
	log.Fatal(http.ListenAndServeTLS(listen, certificate, key, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		answer, err := client.Get(from)
		if err != nil {
			log.Fatal(err)
		}
		defer answer.Body.Close()
		_, _ = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{answer.Body}, make([]byte, 256<<10))
	})))
}
