// Package hook tells addresses outside what has happened: one signed call by HTTP.
package hook

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"patientlantern.example/lantern/fetch"
)

// Caller makes calls. Redirects are not followed: what is signed is for one address.
type Caller struct{ http http.Client }

// NewCaller is a caller that follows no redirects.
func NewCaller() *Caller {
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Caller{http.Client{Transport: fetch.Plain(), CheckRedirect: stay}}
}

// Signature is what a call is signed with.
type Signature struct {
	Name   string // of the secret, for whoever verifies
	Secret []byte
	At     time.Time
}

// Call posts a batch of CloudEvents. status is what was answered; 0 where nothing was. No error names the address.
func (c *Caller) Call(ctx context.Context, to, agent string, by Signature, text []byte) (status int, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(text))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Content-Type", "application/cloudevents-batch+json; charset=utf-8")
	req.Header.Set("User-Agent", agent)
	sign(req, text, by)
	resp, err := c.http.Do(req)
	if err != nil {
		var whole *url.Error // names the address, in which a token may stand
		if errors.As(err, &whole) {
			err = whole.Err
		}
		return 0, err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 4<<10)) // so that the connection can be used again
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		return resp.StatusCode, fmt.Errorf("it answers %s", resp.Status)
	}
	return resp.StatusCode, nil
}

// sign signs a call as HTTP Message Signatures have it (RFC 9421, hmac-sha256), over its
// method, its address and the digest of its body (RFC 9530).
func sign(req *http.Request, text []byte, by Signature) {
	sum := sha256.Sum256(text)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid=%q;alg="hmac-sha256"`, by.At.Unix(), by.Name)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		req.Method, req.URL.String(), digest, params)
	mac := hmac.New(sha256.New, by.Secret)
	mac.Write([]byte(base))
	req.Header.Set("Content-Digest", digest)
	req.Header.Set("Signature-Input", "lantern="+params)
	req.Header.Set("Signature", "lantern=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
