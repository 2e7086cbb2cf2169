package drift

import (
	"fmt"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// inClear finds logins in URLs of sources that stand in files which everybody on the host
// can read. What the policy itself has there is its own choice.
func (c *comparer) inClear() {
	modes := map[string]string{}
	for _, f := range c.survey.Files {
		modes[f.Path] = f.Mode
	}
	told := map[string]bool{}
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if c.owned[s.File] || told[s.File] || !readable(modes[s.File]) {
			continue
		}
		if u := withLogin(s); u != "" {
			told[s.File] = true
			c.add(Finding{Class: AccessInClear, Severity: Fault, Field: "URL", File: s.File, Line: s.Line, Have: u,
				Message: fmt.Sprintf("a login stands in the URL %s, and everybody on the host can read the file: give it a file of its own "+
					"that only root reads, and take a new one", u)})
		}
	}
}

// modeOf is who may read a file; empty where that is not known.
func (c *comparer) modeOf(file string) string {
	for i := range c.survey.Files {
		if c.survey.Files[i].Path == file {
			return c.survey.Files[i].Mode
		}
	}
	return ""
}

// readable reports whether everybody can read a file; one of which nothing is known is not.
func readable(mode string) bool {
	n, err := strconv.ParseUint(mode, 8, 32)
	return err == nil && n&0o004 != 0
}

// withLogin is the first URL of a source with a password or token in it, which the survey
// has masked.
func withLogin(s *source.Source) string {
	for _, u := range s.EffURLs {
		if strings.Contains(u, family.Hidden) {
			return u
		}
	}
	return ""
}
