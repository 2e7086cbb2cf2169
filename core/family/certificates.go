package family

import (
	"bytes"
	"crypto/x509"
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
