package change_test

import (
	"crypto/md5"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/standin"
)

// rootOf is a certificate of an authority of that name, in PEM.
func rootOf(t *testing.T, name string) string {
	t.Helper()
	a, err := standin.NewAuthority(name)
	require.NoError(t, err)
	return a.PEM()
}

// vouchFile is named by every family's own means to vouch for servers.
const vouchFile = "srv/roots/site.pem"

// vouchPlaces are hosts of each family on which that file is named.
func vouchPlaces(t *testing.T, site string) map[string]place {
	t.Helper()
	out := map[string]place{
		"apt": debPlace(), "dnf": rpmPlace(), "dnf, for all": rpmPlace(), "zypper": zyppPlace(t), "flatpak": flatpakPlace(), "pacman": archPlace(),
		"the environment": debPlace(),
	}
	named := func(family, file, was, is string) {
		p := out[family]
		require.Contains(t, p.files[file], was)
		p.files[file] = strings.Replace(p.files[file], was, is, 1)
		p.files[vouchFile], p.files["etc/machine-id"] = site, "5c0f0f5b3f2d4a6f9d8e7c6b5a493827\n"
	}
	named("apt", confFile, "APT::Install", "Acquire::http::plover.example::cainfo \"/srv/roots/../roots/site.pem\";\nAPT::Install")
	named("dnf", forelandFile, "enabled=1\n", "enabled=1\nproxy_sslcacert=/srv/roots/site.pem\n")
	named("dnf, for all", dnfConf, "gpgcheck=1\n", "gpgcheck=1\nsslcacert=srv/roots/site.pem\n")
	named("zypper", halyardFile, "$releasever/", "$releasever/?ssl_capath=%2Fsrv%2froots/")
	named("flatpak", flatConf, "xa.title=Gulls", "xa.title=Gulls\ntls-ca-path=/srv/roots/site.pem")
	named("pacman", pacFile, "[options]\n", "[options]\nXferCommand = /usr/bin/curl --cacert /srv/roots/site.pem -o %o %u\n")
	p := out["the environment"]
	p.files["etc/environment"] = "CURL_CA_BUNDLE=\"/srv/roots/site.pem\"\n"
	p.files[vouchFile], p.files["etc/machine-id"] = site, "5c0f0f5b3f2d4a6f9d8e7c6b5a493827\n"
	return out
}

func TestWhatHandsDoToThoseWhoVouchForServers(t *testing.T) {
	const want, field = "setting-changed danger", "trust, transport"
	site, other := rootOf(t, "Brinewick"), rootOf(t, "Elsewhere")
	for name, p := range vouchPlaces(t, site) {
		t.Run(name, func(t *testing.T) {
			at := "/" + vouchFile
			if name == "zypper" { // which is given a folder
				at = "/srv/roots"
			}
			hands(t, p, []hand{
				{does: "one authority more", file: vouchFile, text: site + other, want: want, field: field, at: at, stays: true},
				{does: "another authority", file: vouchFile, text: other, want: want, field: field, at: at, stays: true},
				{does: "no file", file: vouchFile, text: "-", want: want, field: field, at: at, stays: true},
				{does: "no certificate", file: vouchFile, text: "x\n", want: want, field: field, at: at, stays: true},
				{does: "one more that we cannot read", file: vouchFile, text: site + "-----BEGIN CERTIFICATE-----\n=\n-----END CERTIFICATE-----\n",
					want: want, field: field, at: at, stays: true},
				{does: "a comment", file: vouchFile, text: "# the site's\n" + site},
				{does: "twice", file: vouchFile, text: site + site},
			})
		})
	}
}

// Whatever is named to vouch may be any file: no more is told of it than whether it changes.
func TestNothingIsToldOfWhatIsOnlySaidToVouch(t *testing.T) {
	const secret = "mira:seven-old-anchors\n"
	mixed := secret + "-----BEGIN CERTIFICATE-----\n=\n-----END CERTIFICATE-----\n"
	for name, p := range vouchPlaces(t, mixed) {
		told := look(p.files, nil, p.sheet)
		for _, d := range told.Survey.Deciding {
			require.NotContains(t, strings.Join(d.Lines, "\n"), source.Digest([]byte(mixed)), name)
		}
	}
	for name, p := range vouchPlaces(t, secret) {
		r := look(p.files, nil, p.sheet)
		for _, d := range r.Survey.Deciding {
			require.NotContains(t, strings.Join(d.Lines, "\n"), "anchors", name)
		}
		for file, text := range r.Masked() {
			require.NotContains(t, string(text), "anchors", name+" "+file)
		}
	}
}

// What the system believes, beside what its packages and the folders of additions bring.
func TestWhatHandsDoToWhatTheSystemBelieves(t *testing.T) {
	const (
		want, field = "setting-changed danger", "trust, transport"
		bundle      = "etc/ssl/certs/ca-certificates.crt"
		own         = "usr/share/ca-certificates/mozilla/Ness.crt"
		local       = "usr/local/share/ca-certificates/"
		conf        = "etc/ca-certificates.conf"
		sums        = "var/lib/dpkg/info/ca-certificates.md5sums"
	)
	sumOf := func(text string) string {
		return fmt.Sprintf("%x  %s\nd41d8cd98f00b204e9800998ecf8427e  usr/sbin/update-ca-certificates\n", md5.Sum([]byte(text)), own)
	}
	ness, site, other := rootOf(t, "Ness"), rootOf(t, "Brinewick"), rootOf(t, "Elsewhere")
	p := debPlace()
	p.files[own], p.files[bundle], p.files[local+"site.crt"] = ness, ness+site, site
	p.files[conf] = "# of the package\nmozilla/Ness.crt\n"
	p.files[ploverFile] = strings.Replace(p.files[ploverFile], "http://", "https://", 1)
	hands(t, p, []hand{
		{does: "one more in the file of all", file: bundle, text: ness + site + other, want: want, field: field, stays: true},
		{does: "one that we cannot read", file: bundle, text: ness + site + "-----BEGIN CERTIFICATE-----\nMIAwgAAA\n-----END CERTIFICATE-----\n", want: want, field: field, stays: true},
		{does: "one in no base64", file: bundle, text: ness + site + "-----BEGIN CERTIFICATE-----\n=A=\n-----END CERTIFICATE-----\n", want: want, field: field, stays: true},
		{does: "one that is small", file: bundle, text: ness + site + "-----BEGIN CERTIFICATE-----\nMAMCAQE=\n-----END CERTIFICATE-----\n", want: want, field: field, stays: true},
		{does: "one beside it", file: "etc/ssl/certs/x.pem", text: other, want: want, field: field, at: "/etc/ssl/certs", stays: true},
		{does: "one that is added as one should", file: local + "x.crt", text: other, more: tree{bundle: ness + site + other}, want: want, field: field, stays: true},
		{does: "the same in a folder", file: local + "a/b/x.crt", text: other, more: tree{bundle: ness + site + other}, want: want, field: field, stays: true},
		{does: "one of those at hand is believed", file: conf, text: p.files[conf] + "elsewhere/x.crt\n",
			more: tree{bundle: ness + site + other, "usr/share/ca-certificates/elsewhere/x.crt": other}, want: want, field: field, stays: true},
	})
	hands(t, p, []hand{{does: "the package brings another", file: own, text: other, more: tree{bundle: other + site}}})
	hands(t, p.with(tree{sums: sumOf(ness)}), []hand{
		{does: "the package brings another, and says so", file: own, text: other, more: tree{bundle: other + site, sums: sumOf(other)}},
		{does: "another than the package brought", file: own, text: other, more: tree{bundle: other + site}, want: want, field: field,
			at: "/usr/share/ca-certificates", stays: true},
		{does: "one is taken from the package's", file: own, text: "-", more: tree{bundle: site}},
	})
	none := p.with(tree{sums: sumOf(ness)})
	delete(none.files, bundle)
	hands(t, none, []hand{
		{does: "a file of all comes, with a stranger", file: bundle, text: ness + other, want: want, field: field, stays: true},
		{does: "a file of all comes", file: bundle, text: ness + site},
		{does: "another than the package brought, and no file of all", file: own, text: other, want: want, field: field,
			at: "/usr/share/ca-certificates", stays: true},
		{does: "it comes with another than the package brought", file: own, text: other, more: tree{bundle: other}, want: want, field: field,
			at: "/usr/share/ca-certificates", stays: true},
	})
	hands(t, p, []hand{
		{does: "the package brings one more", file: "usr/share/ca-certificates/mozilla/New.crt", text: other,
			more: tree{bundle: ness + site + other, conf: p.files[conf] + "mozilla/New.crt\n"}},
		{does: "another order", file: bundle, text: site + ness},
	})
}

// Where nothing was fetched by TLS when the policy came nobody looked at whom the system believes: that is said.
func TestWhomNobodyAskedWhenThePolicyCame(t *testing.T) {
	ness, other := rootOf(t, "Ness"), rootOf(t, "Elsewhere")
	const bundle = "etc/ssl/certs/ca-certificates.crt"
	for text, want := range map[string]bool{ness: false, ness + other: true} {
		p := debPlace().with(tree{bundle: text, "usr/share/ca-certificates/mozilla/Ness.crt": ness}).carried(t)
		now := look(p.files, p.modes, p.sheet)
		plain := maps.Clone(p.files)
		for name, said := range plain {
			plain[name] = strings.ReplaceAll(said, "https://", "http://")
		}
		was := look(plain, p.modes, p.sheet)
		require.True(t, now.Survey.FetchesByTLS())
		require.False(t, was.Survey.FetchesByTLS())
		told := slices.ContainsFunc(
			drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &now.Survey, Base: &drift.Base{Sheet: p.sheet, Survey: &was.Survey}}),
			func(f drift.Finding) bool {
				return f.Field == "not looked at" && strings.HasPrefix(f.Message, "/"+bundle+": nobody looked")
			},
		)
		require.Equal(t, want, told)
	}
}

// What cannot be compared is not told as if it were the same.
func TestCertificatesWithoutTheirPackagesWordAreNotKnown(t *testing.T) {
	const status, sums = "var/lib/dpkg/status", "var/lib/dpkg/info/ca-certificates.md5sums"
	p := debPlace()
	p.files[ploverFile] = strings.Replace(p.files[ploverFile], "http://", "https://", 1)
	says := func() bool {
		r := look(p.files, p.modes, p.sheet)
		return slices.ContainsFunc(r.Survey.Problems, func(x source.Problem) bool { return x.File == "/"+sums })
	}
	require.False(t, says(), "no such package is installed")
	p.files[status] += "\nPackage: ca-certificates\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n"
	require.True(t, says())
	p.files[sums] = ""
	require.False(t, says())
}
