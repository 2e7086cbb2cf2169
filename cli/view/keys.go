package view

import (
	"fmt"
	"strings"
)

// FoldKeys folds the inner lines of armoured keys and certificates in a diff: nobody reads them. The
// fingerprint is in the policy, and --format json has every line.
func FoldKeys(diff string) string {
	var out strings.Builder
	what, sign, folded := "", "", 0
	end := func() {
		if folded > 0 {
			fmt.Fprintf(&out, "%s … %s of the %s …\n", sign, Count(folded, "line", "lines"), what)
		}
		what, folded = "", 0
	}
	for line := range strings.Lines(diff) {
		switch {
		case strings.Contains(line, "-----BEGIN PGP PUBLIC KEY BLOCK-----"):
			end()
			what = "key"
		case strings.Contains(line, "-----BEGIN CERTIFICATE-----"):
			end()
			what = "certificate"
		case what == "":
		case strings.Contains(line, "-----END ") || !strings.ContainsAny(line[:1], "+- "):
			end()
		default:
			sign = line[:1]
			folded++
			continue
		}
		out.WriteString(line)
	}
	end()
	return out.String()
}
