package upstream

import (
	"cmp"
	"encoding/hex"
	"encoding/xml"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/source"
)

// metalink is what counts of a metalink: where repomd.xml is, and which sums it may have.
type metalink struct {
	XMLName xml.Name `xml:"metalink"`
	Files   []struct {
		Name       string       `xml:"name,attr"`
		Hashes     []sum        `xml:"verification>hash"`
		Alternates []alternate  `xml:"alternates>alternate"`
		URLs       []linkedFile `xml:"resources>url"`
	} `xml:"files>file"`
}

type alternate struct {
	Hashes []sum `xml:"verification>hash"`
}

type linkedFile struct {
	Preference int    `xml:"preference,attr"`
	URL        string `xml:",chardata"`
}

// mirrors are the addresses to be tried, in order: dnf asks those of a list first, of two lists the metalink alone, and base URLs
// then; zypper asks no list where a base URL stands.
func (l *looker) mirrors() (urls []string, refused *Refused) {
	switch {
	case l.Family == source.FamilyZypp && len(l.URLs) > 0:
	case l.Metalink != "":
		var text []byte
		if text, refused = l.small(l.Metalink, "the metalink", mostMetalink); refused == nil {
			urls, refused = l.linked(text)
		}
	case l.Mirrorlist != "":
		urls, refused = l.listed()
	}
	if urls = append(urls, l.URLs...); len(urls) > 0 {
		refused = nil // what they answer counts
	}
	return urls[:min(len(urls), mostMirrors)], refused
}

// listed reads a list of mirrors. By its URL dnf and zypper see that a metalink stands there, zypper whatever does.
func (l *looker) listed() (urls []string, refused *Refused) {
	text, refused := l.small(l.Mirrorlist, "the list of mirrors", mostMetalink)
	if refused != nil {
		return nil, refused
	}
	switch {
	case l.Family == source.FamilyZypp && strings.Contains(l.Mirrorlist, "/metalink"):
		return l.linked(text)
	case l.Family == source.FamilyRpm && strings.Contains(l.Mirrorlist, "metalink"):
		if urls, refused = l.linked(text); refused == nil {
			return urls, nil
		}
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			urls = append(urls, strings.TrimSuffix(line, "repodata/repomd.xml"))
		}
	}
	return urls, nil
}

// linked reads a metalink.
func (l *looker) linked(text []byte) (urls []string, refused *Refused) {
	var m metalink
	if err := xml.Unmarshal(text, &m); err != nil {
		return nil, refuse(cause.NotMetadata, "the metalink", "%v", err)
	}
	for _, f := range m.Files {
		if f.Name != "repomd.xml" {
			continue
		}
		l.promises = append(l.promises, f.Hashes...)
		for _, a := range f.Alternates {
			l.promises = append(l.promises, a.Hashes...)
		}
		slices.SortStableFunc(f.URLs, func(a, b linkedFile) int { return cmp.Compare(b.Preference, a.Preference) })
		for _, u := range f.URLs {
			if s := strings.TrimSpace(u.URL); strings.HasPrefix(s, "http") {
				urls = append(urls, strings.TrimSuffix(s, "repodata/repomd.xml"))
			}
		}
	}
	if len(urls) == 0 {
		return nil, refuse(cause.Missing, "the metalink", "it names no mirror of repomd.xml")
	}
	return urls, nil
}

// promisedByMetalink refuses a repomd.xml that none of a metalink's sums fits.
func (l *looker) promisedByMetalink(text []byte) *Refused {
	if len(l.promises) == 0 {
		return nil
	}
	for _, p := range l.promises {
		if make := hashOf(p.Type); make != nil {
			h := make()
			h.Write(text)
			if hex.EncodeToString(h.Sum(nil)) == strings.ToLower(strings.TrimSpace(p.Hex)) {
				return nil
			}
		}
	}
	return refuse(cause.Mismatch, "repomd.xml", "it is none of those that the metalink promises: the mirror is older, or not one")
}
