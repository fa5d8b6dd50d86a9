package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"time"
)

// post tells a webhook, signed as of RFC 9421 with HMAC-SHA256 (section 3.3.3), over
// the method, the URL, the type and the digest (RFC 9530) of what is told.
func (n *Notifications) post(ctx context.Context, k kept, target string, payload []byte) error {
	secret, err := n.sealer.Open("notices "+target, k.Secrets[target])
	if err != nil {
		return fmt.Errorf("the secret of the webhook cannot be read: %w", err)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(payload))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("User-Agent", "deft-heron")
	Sign(request, payload, secret, time.Now())
	response, err := n.client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(response.Body, 64<<10))
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return fmt.Errorf("the webhook answered %s", response.Status)
	}
	return nil
}

// Sign adds a digest and a signature to a request.
func Sign(request *http.Request, payload, secret []byte, at time.Time) {
	sum := sha256.Sum256(payload)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	request.Header.Set("Content-Digest", digest)
	parameters := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid="heron";alg="hmac-sha256"`,
		at.Unix())
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		request.Method, request.URL.String(), request.Header.Get("Content-Type"), digest, parameters)
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(base))
	request.Header.Set("Signature-Input", "heron="+parameters)
	request.Header.Set("Signature", "heron=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
