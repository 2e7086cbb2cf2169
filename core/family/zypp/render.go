package zypp

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// Definition is one repository as it shall stand on a host.
type Definition struct {
	Repository string // its alias, and the name of its file
	Of         string // the repository of the policy that the file belongs to; empty: of that name
	Title      string
	Support    string
	Enabled    bool
	URL        string
	Signatures string
	Keys       []family.SigningKey
	Account    string // whose access opens it; empty: nobody's
	Kind       string // of that access, as in the package credential
}

// ReposDir is where repositories of the policy stand.
const ReposDir = "/etc/zypp/repos.d"

// KeyPath is where a signing key stands.
func KeyPath(name string) string { return "/etc/zypp/keys/" + name + ".asc" }

// Access says in which file the access of an account stands: a credentials file that
// URLs name, or a variable with the token.
func Access(account, kind string) []source.AccessFile {
	if kind == credential.TokenURL {
		return []source.AccessFile{{Path: "/etc/zypp/vars.d/" + family.Variable(account, "token"), Mode: "0600", Form: credential.FormToken}}
	}
	return []source.AccessFile{{Path: "/etc/zypp/credentials.d/lantern-" + account, Mode: "0600", Form: credential.FormZypp}}
}

// Render writes a repository as a .repo file of its own, with the key files that it
// needs. An error means that zypper would not take the URL.
func Render(d Definition) (files []source.SheetFile, src source.SheetSource, keys []source.SheetKey, err error) {
	if d.Of == "" {
		d.Of = d.Repository
	}
	written, shown := family.Token(d.URL, family.Variable(d.Account, "token"))
	if d.Account != "" && d.Kind != credential.TokenURL {
		if strings.ContainsAny(written, "?#") {
			return nil, src, nil, fmt.Errorf("it has a query of its own, and the login is named in the query")
		}
		written += "?credentials=lantern-" + d.Account
		shown = written
	}
	u, err := parse(shown)
	if err != nil {
		return nil, src, nil, err
	}
	effective, err := u.effective(func(s string) string { return s })
	if err != nil {
		return nil, src, nil, err
	}
	file := ReposDir + "/" + d.Repository + ".repo"
	title := strings.Join(strings.Fields(d.Title), " ")
	if title == "" {
		title = d.Repository
	}
	src = source.SheetSource{
		Repository: d.Of, File: file, ID: d.Repository, Enabled: d.Enabled, Kinds: []string{"binary"}, URLs: []string{family.MaskURL(effective.print(true, true))},
		Suites: []string{}, Components: []string{}, Archs: []string{}, SignedBy: []string{}, Signatures: d.Signatures, Support: d.Support,
	}
	onOff := map[bool]string{true: "1", false: "0"}
	check := onOff[d.Signatures != source.CheckOff]
	var b strings.Builder
	b.WriteString(family.Head)
	fmt.Fprintf(&b, "[%s]\nname=%s\nenabled=%s\nautorefresh=1\nbaseurl=%s\ngpgcheck=%s\nrepo_gpgcheck=%s\npkg_gpgcheck=%s\n", d.Repository, title, onOff[d.Enabled], written, check, check, check)
	for i, k := range d.Keys {
		src.SignedBy = append(src.SignedBy, k.Fingerprint)
		keys = append(keys, source.SheetKey{Name: k.Name, Fingerprint: k.Fingerprint, Path: KeyPath(k.Name)})
		files = append(files, source.SheetFile{Path: KeyPath(k.Name), Mode: "0644", Text: k.Armored})
		lead := "       " // further URLs stand below the first
		if i == 0 {
			lead = "gpgkey="
		}
		fmt.Fprintf(&b, "%sfile://%s\n", lead, KeyPath(k.Name))
	}
	files = append(files, source.SheetFile{Path: file, Mode: "0644", Text: b.String(), Repository: d.Of})
	return files, src, keys, nil
}
