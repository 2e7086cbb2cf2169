package rpm

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// Definition is one repository as it shall stand on a host.
type Definition struct {
	Repository string // its id, and the name of its file
	Of         string // the repository of the policy that the file belongs to; empty: of that name
	Title      string
	Support    string
	Enabled    bool
	URL        string
	Signatures string
	Keys       []family.SigningKey
	Authority  string // certificates (PEM) that vouch for the server; empty for the system's
	Account    string // whose access opens it; empty: nobody's
	Kind       string // of that access, as in the package credential
}

// ReposDir is where repositories of the policy stand.
const ReposDir = "/etc/yum.repos.d"

// KeyPath is where a signing key stands.
func KeyPath(name string) string { return "/etc/pki/rpm-gpg/" + name + ".asc" }

// pkiDir holds certificates that repositories name.
const pkiDir = "/etc/pki/lantern"

// varsDir holds dnf's variables. A login stands there and not in the .repo file,
// so that it can be renewed without touching that, and so that only root reads it.
const varsDir = "/etc/dnf/vars"

// Access says in which files the access of an account stands. dnf(5).conf:
// sslclientcert, sslclientkey, username, password.
func Access(account, kind string) []source.AccessFile {
	switch kind {
	case credential.Certificate:
		return []source.AccessFile{
			{Path: pkiDir + "/" + account + ".crt", Mode: "0644", Form: credential.FormCertificate},
			{Path: pkiDir + "/" + account + ".key", Mode: "0600", Form: credential.FormKey},
		}
	case credential.TokenURL:
		return []source.AccessFile{{Path: varsDir + "/" + family.Variable(account, "token"), Mode: "0600", Form: credential.FormToken}}
	}
	return []source.AccessFile{
		{Path: varsDir + "/" + family.Variable(account, "login"), Mode: "0600", Form: credential.FormLogin},
		{Path: varsDir + "/" + family.Variable(account, "password"), Mode: "0600", Form: credential.FormPassword},
	}
}

// Render writes a repository as a .repo file of its own, with the files that it
// needs.
func Render(d Definition) (files []source.SheetFile, src source.SheetSource, keys []source.SheetKey) {
	if d.Of == "" {
		d.Of = d.Repository
	}
	file := ReposDir + "/" + d.Repository + ".repo"
	title := strings.Join(strings.Fields(d.Title), " ")
	if title == "" {
		title = d.Repository
	}
	written, shown := family.Token(d.URL, family.Variable(d.Account, "token"))
	src = source.SheetSource{
		Repository: d.Of, File: file, ID: d.Repository, Enabled: d.Enabled, Kinds: []string{"binary"}, URLs: []string{shown},
		Suites: []string{}, Components: []string{}, Archs: []string{}, SignedBy: []string{}, Signatures: d.Signatures, Support: d.Support,
	}
	var b strings.Builder
	b.WriteString(family.Head)
	onOff := map[bool]string{true: "1", false: "0"}
	check := onOff[d.Signatures != source.CheckOff]
	fmt.Fprintf(&b, "[%s]\nname=%s\nbaseurl=%s\nenabled=%s\ngpgcheck=%s\nrepo_gpgcheck=%s\n", d.Repository, title, written, onOff[d.Enabled], check, check)
	var names []string
	for _, k := range d.Keys {
		src.SignedBy = append(src.SignedBy, k.Fingerprint)
		keys = append(keys, source.SheetKey{Name: k.Name, Fingerprint: k.Fingerprint, Path: KeyPath(k.Name)})
		files = append(files, source.SheetFile{Path: KeyPath(k.Name), Mode: "0644", Text: k.Armored})
		names = append(names, "file://"+KeyPath(k.Name))
	}
	if len(names) > 0 {
		fmt.Fprintf(&b, "gpgkey=%s\n", strings.Join(names, " "))
	}
	if d.Authority != "" {
		path := pkiDir + "/" + d.Of + "-authority.pem"
		files = append(files, source.SheetFile{Path: path, Mode: "0644", Text: d.Authority})
		fmt.Fprintf(&b, "sslcacert=%s\n", path)
	}
	if d.Account != "" {
		access := Access(d.Account, d.Kind)
		switch d.Kind {
		case credential.Certificate:
			fmt.Fprintf(&b, "sslclientcert=%s\nsslclientkey=%s\n", access[0].Path, access[1].Path)
		case credential.Basic:
			fmt.Fprintf(&b, "username=$%s\npassword=$%s\n", family.Variable(d.Account, "login"), family.Variable(d.Account, "password"))
		}
	}
	files = append(files, source.SheetFile{Path: file, Mode: "0644", Text: b.String(), Repository: d.Of})
	return files, src, keys
}
