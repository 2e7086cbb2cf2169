package rpm

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// ReposDir is where repositories of the policy stand.
const ReposDir = "/etc/yum.repos.d"

// Reserved are the sections that are no repositories.
var Reserved = []string{"main"}

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

// excluded are the builds that a hold passes over.
func excluded(h *family.Hold) string {
	var all []string
	for _, name := range h.Packages {
		all = append(all, h.Series.OtherBuilds(name)...)
	}
	return strings.Join(all, " ")
}

// Render writes a repository as a .repo file of its own, with the files that it
// needs.
func Render(d family.Definition) ([]source.SheetFile, source.SheetSource, []source.SheetKey) {
	written, shown := family.Token(d.URL, family.Variable(d.Account, "token"))
	src := d.Source(ReposDir+"/"+d.Repository+".repo", shown)
	files, keys := d.KeyFiles(&src, KeyPath)
	from := "baseurl=" + written
	if d.Mirrors != nil {
		list := d.MirrorFile("/etc/dnf/mirrors/"+d.Repository+".list", "")
		files = append(files, list)
		src.Mirrorlist = "file://" + list.Path
		from = "mirrorlist=" + src.Mirrorlist
	}
	check := family.OnOff(d.Signatures != source.CheckOff)
	var b strings.Builder
	fmt.Fprintf(&b, "%s%s\nenabled=%s\ngpgcheck=%s\nrepo_gpgcheck=%s\n", d.Section(), from, family.OnOff(d.Enabled), check, check)
	if d.Priority != nil {
		fmt.Fprintf(&b, "priority=%d\n", *d.Priority)
	}
	if d.Proxy != "" {
		fmt.Fprintf(&b, "proxy=%s\n", d.Proxy)
	}
	if d.Hold != nil && d.Enabled {
		b.WriteString("excludepkgs=" + excluded(d.Hold) + "\n")
	}
	for i, k := range keys {
		lead := " "
		if i == 0 {
			lead = "gpgkey="
		}
		b.WriteString(lead + "file://" + k.Path)
	}
	if len(keys) > 0 {
		b.WriteByte('\n')
	}
	if d.Authority != "" {
		path := pkiDir + "/" + src.Repository + "-authority.pem"
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
	return append(files, source.SheetFile{Path: src.File, Mode: "0644", Text: b.String(), Repository: src.Repository}), src, keys
}
