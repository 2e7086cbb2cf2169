package family

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Certificates names the certificates of a file by whom they are for, and by their digest.
func Certificates(text []byte, _ []string) (out []string) {
	add := func(der []byte) { out = append(out, CertificateSays(der)) }
	rest := text
	for {
		block, more := pem.Decode(rest)
		if block == nil {
			break
		}
		if rest = more; block.Type == "CERTIFICATE" || block.Type == "TRUSTED CERTIFICATE" {
			add(block.Bytes)
		}
	}
	if len(out) == 0 && len(bytes.TrimSpace(text)) > 0 {
		add(text)
	}
	return out
}

// CertificateSays says for whom a certificate is, and its digest.
func CertificateSays(der []byte) string {
	says := "SHA-256 " + source.Digest(der)
	if c, err := x509.ParseCertificate(der); err == nil {
		says = fmt.Sprintf("%s, until %s, %s", Plainly(c.Subject.String()), c.NotAfter.UTC().Format("2006-01-02"), says)
	}
	return says
}

// mostLines is how many certificates of one file or folder are told one by one.
const mostLines = 200

// Fewer tells of more lines than anybody reads by a digest.
func Fewer(lines []string) []string {
	if len(lines) <= mostLines {
		return lines
	}
	return []string{fmt.Sprintf("%d certificates, SHA-256 %s", len(lines), source.Digest([]byte(strings.Join(lines, "\n"))))}
}

var (
	beginMark = []byte("-----BEGIN ")
	endMark   = []byte("-----END ")
)

// CertificateBlocks are the certificates of a text in PEM, each as it was signed: what OpenSSL writes behind one, to say what it is
// good for, is left out. A text with thousands of lines between them (p11-kit's) is gone through once.
func CertificateBlocks(text []byte) (out [][]byte) {
	for {
		_, rest, found := bytes.Cut(text, beginMark)
		if !found {
			return out
		}
		label, rest, _ := bytes.Cut(rest, []byte("-----"))
		body, after, ended := bytes.Cut(rest, endMark)
		if text = after; !ended {
			return out
		}
		if !bytes.HasSuffix(label, []byte("CERTIFICATE")) {
			continue
		}
		der := make([]byte, base64.StdEncoding.DecodedLen(len(body)))
		if bytes.ContainsAny(body, " \t") { // other ends of lines are no matter
			body = bytes.Join(bytes.Fields(body), nil)
		}
		if n, err := base64.StdEncoding.Decode(der, body); err == nil {
			body = der[:n]
		}
		if c, err := PlainDER(body); err == nil {
			body = c
		}
		out = append(out, body) // what we cannot read others may
	}
}

// PlainDER is the first element of a text in DER; an error where there is none.
func PlainDER(der []byte) ([]byte, error) {
	var first asn1.RawValue
	_, err := asn1.Unmarshal(der, &first)
	return first.FullBytes, err
}

// Vouchers names those for whom there is a certificate in a text in PEM.
func Vouchers(text []byte) (out []string) {
	for _, der := range CertificateBlocks(text) {
		out = append(out, CertificateSays(der))
	}
	return out
}
