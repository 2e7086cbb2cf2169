package zypp

import (
	"errors"
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// ReposDir is where repositories of the policy stand.
const ReposDir = "/etc/zypp/repos.d"

// KeyPath is where a signing key stands.
func KeyPath(name string) string { return "/etc/zypp/keys/" + name + ".asc" }

// Access says in which file the access of an account stands: a credentials file that
// URLs name, or a variable with the token.
func Access(account, kind string) []source.AccessFile {
	if kind == credential.TokenURL {
		return []source.AccessFile{
			{Path: "/etc/zypp/vars.d/" + family.Variable(account, "token"), Mode: "0600", Form: credential.FormToken},
		}
	}
	return []source.AccessFile{{Path: "/etc/zypp/credentials.d/lantern-" + account, Mode: "0600", Form: credential.FormZypp}}
}

// MirrorList is where the mirrors of a repository stand. zypper takes a list for a metalink by what stands in its URL, whatever
// the file holds, so that of a repository of such a name has another.
func MirrorList(repository string) string {
	if strings.HasPrefix(repository, "metalink") {
		repository = "of." + repository
	}
	return "/etc/zypp/mirrors/" + repository + ".list"
}

// Takes reports why zypper would not take a URL.
func Takes(url string) error {
	_, err := taken(url)
	return err
}

// taken is a URL as zypper takes it, nothing filled in.
func taken(url string) (address, error) {
	u, err := parse(url)
	if err != nil {
		return u, err
	}
	return u.effective(func(s string) string { return s })
}

// Render writes a repository as a .repo file of its own, with the key files that it
// needs. An error means that zypper would not take the URL.
func Render(d family.Definition) (files []source.SheetFile, src source.SheetSource, keys []source.SheetKey, err error) {
	written, shown := family.Token(d.URL, family.Variable(d.Account, "token"))
	if d.Account != "" && d.Kind != credential.TokenURL {
		if strings.ContainsAny(written, "?#") {
			return nil, src, nil, errors.New("it has a query of its own, and the login is named in the query")
		}
		written += "?credentials=lantern-" + d.Account
		shown = written
	}
	from := "baseurl=" + written
	list := d.MirrorFile(MirrorList(d.Repository), "")
	if d.Mirrors != nil {
		from, shown = "mirrorlist=file://"+list.Path, "file://"+list.Path
	}
	effective, err := taken(shown)
	if err != nil {
		return nil, src, nil, err
	}
	if d.Proxy != "" && d.Mirrors == nil {
		effective.through(d.Proxy)
	}
	shown = family.MaskURL(effective.print(true, true))
	if d.Mirrors != nil {
		src = d.Source(ReposDir+"/"+d.Repository+".repo", "")
		src.Mirrorlist = shown
	} else {
		src = d.Source(ReposDir+"/"+d.Repository+".repo", shown)
	}
	if files, keys = d.KeyFiles(&src, KeyPath); d.Mirrors != nil {
		files = append(files, list)
	}
	check := family.OnOff(d.Signatures != source.CheckOff)
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"%senabled=%s\nautorefresh=1\n%s\ngpgcheck=%s\nrepo_gpgcheck=%s\npkg_gpgcheck=%s\n",
		d.Section(),
		family.OnOff(d.Enabled),
		from,
		check,
		check,
		check,
	)
	if d.Priority != nil {
		fmt.Fprintf(&b, "priority=%d\n", *d.Priority)
	}
	if d.Proxy != "" {
		fmt.Fprintf(&b, "proxy=%s\n", d.Proxy)
	}
	for i, k := range keys {
		lead := "       " // further URLs stand below the first
		if i == 0 {
			lead = "gpgkey="
		}
		fmt.Fprintf(&b, "%sfile://%s\n", lead, k.Path)
	}
	return append(files, source.SheetFile{Path: src.File, Mode: "0644", Text: b.String(), Repository: src.Repository}), src, keys, nil
}
