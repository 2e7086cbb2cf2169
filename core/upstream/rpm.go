package upstream

import (
	"encoding/xml"
	"fmt"
	"hash"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/index"
)

// repomd is what counts of a repomd.xml.
type repomd struct {
	XMLName  xml.Name `xml:"repomd"`
	Revision string   `xml:"revision"`
	Data     []part   `xml:"data"`
}

// part is a list that a repomd.xml names.
type part struct {
	Type      string `xml:"type,attr"`
	Checksum  sum    `xml:"checksum"`
	Timestamp string `xml:"timestamp"`
	Size      *int64 `xml:"size"`
	OpenSize  int64  `xml:"open-size"`
	Location  struct {
		Href string `xml:"href,attr"`
		Base string `xml:"base,attr"`
	} `xml:"location"`
}

type sum struct {
	Type string `xml:"type,attr"`
	Hex  string `xml:",chardata"`
}

// unread are parts of a repository that decide which packages are offered, and that are not
// read here.
var unread = map[string]string{
	"modules": "it has modules, which are not read: a package of a stream that is off counts as offered",
}

// below is the address of a file below another, as dnf and zypper make it: what stands behind a question mark stays behind it.
func below(base, file string) string {
	base, query, asks := strings.Cut(base, "?")
	base = strings.TrimRight(base, "/") + "/" + file
	if asks {
		base += "?" + query
	}
	return base
}

// rpm looks at an rpm-md repository: repomd.xml, its signature, and the primary list.
func (l *looker) rpm(base string) (*Found, *Refused) {
	const name = "repomd.xml"
	text, refused := l.small(below(base, "repodata/"+name), name, mostRepomd)
	if refused != nil {
		return nil, refused
	}
	found := &Found{Digest: digest(text)}
	if l.Keys != nil {
		sig, refused := l.small(below(base, "repodata/"+name+".asc"), name+".asc", mostSig)
		if refused != nil && refused.Kind == cause.Missing {
			return nil, refuse(cause.Unsigned, name, "it is not signed: there is no %s.asc", name)
		} else if refused != nil {
			return nil, refused
		}
		if found.Signer, refused = l.signed(text, sig, name); refused != nil {
			return nil, refused
		}
	}
	if refused := l.promisedByMetalink(text); refused != nil {
		return nil, refused
	}
	var md repomd
	if err := xml.Unmarshal(text, &md); err != nil {
		return nil, refuse(cause.NotMetadata, name, "%v", err)
	}
	found.Date = md.made()
	if refused := l.fresh(found, name); refused != nil {
		return nil, refused
	}
	for _, d := range md.Data {
		if words := unread[d.Type]; words != "" {
			found.Notes = append(found.Notes, words)
		}
	}
	found.Packages, refused = l.primary(base, &md)
	return found, refused
}

// made is the newest time that a repomd.xml tells.
func (md *repomd) made() (at time.Time) {
	times := []string{md.Revision}
	for _, d := range md.Data {
		times = append(times, d.Timestamp)
	}
	for _, s := range times {
		s, _, _ = strings.Cut(strings.TrimSpace(s), ".")
		var n int64
		if _, err := fmt.Sscanf(s, "%d", &n); err != nil || n < 1e8 || n > 1e11 { // a revision may be any word
			continue
		}
		if t := time.Unix(n, 0).UTC(); t.After(at) {
			at = t
		}
	}
	return at
}

func (l *looker) primary(base string, md *repomd) ([]index.Package, *Refused) {
	i := slices.IndexFunc(md.Data, func(d part) bool { return d.Type == "primary" })
	if i < 0 {
		return nil, refuse(cause.NotMetadata, "repomd.xml", "it names no primary list")
	}
	d := &md.Data[i]
	p := promised{name: d.Location.Href, size: -1, opened: d.OpenSize, sum: strings.TrimSpace(d.Checksum.Hex)}
	if d.Size != nil && *d.Size >= 0 {
		p.size = *d.Size
	}
	if path.Ext(p.name) == ".zck" {
		return nil, refuse(cause.NotMetadata, p.name, "it is a zchunk, which is not read")
	}
	if p.hash = hashOf(d.Checksum.Type); p.hash == nil {
		return nil, refuse(cause.Mismatch, "repomd.xml", "the sum of its primary list is %.20q, which is not believed", d.Checksum.Type)
	}
	var err error
	if p.url, err = resolve(base, d.Location.Base, p.name); err != nil {
		return nil, refuse(cause.NotMetadata, "repomd.xml", "%v", err)
	}
	p.name = path.Base(p.name)
	return l.list(p, index.RPM)
}

func hashOf(name string) func() hash.Hash {
	for _, h := range hashes {
		if h.name == strings.ToLower(name) {
			return h.make
		}
	}
	return nil
}

// resolve is where a list stands that a repository names. It stays with HTTP, or with the
// folder that the repository is in.
func resolve(base, own, href string) (string, error) {
	if own != "" {
		base = own
	}
	from, err := url.Parse(below(base, ""))
	if err != nil {
		return "", fmt.Errorf("%.100q is no address", base)
	}
	to, err := from.Parse(href)
	if err != nil || to.Scheme != from.Scheme && to.Scheme != "https" && to.Scheme != "http" ||
		to.Scheme == "file" && !strings.HasPrefix(to.Path, from.Path) {
		return "", fmt.Errorf("%.100q leads away from the repository", href)
	}
	if to.RawQuery == "" && to.Host == from.Host {
		to.RawQuery = from.RawQuery
	}
	return to.String(), nil
}
