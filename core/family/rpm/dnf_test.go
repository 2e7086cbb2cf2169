package rpm_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// repo is what dnf says of one repository.
type repo struct {
	ID, Name             string
	Enabled              bool
	URLs                 []string
	Mirrorlist, Metalink string
	GPGKey               []string
	Packages, Metadata   bool
	Priority             int
	File                 string
	Position             int
}

func theirs(c *cell.Cell, root string) (r cell.Reading, err error) {
	a, err := c.DNF(root)
	if err != nil {
		return r, err
	}
	if a.Code != 0 {
		return cell.Reading{Refused: true, Why: a.Err}, nil
	}
	var said struct{ Repos []repo }
	if err := json.Unmarshal([]byte(a.Out), &said); err != nil {
		return r, fmt.Errorf("%w in %q", err, a.Out)
	}
	for _, x := range said.Repos {
		x.Mirrorlist, x.Metalink = family.MaskURL(x.Mirrorlist), family.MaskURL(x.Metalink)
		for i := range x.URLs {
			x.URLs[i] = family.MaskURL(x.URLs[i])
		}
		r.Facts = append(r.Facts, fmt.Sprintf("%+v", x))
	}
	return r, nil
}

func ours(root string) (out cell.Reading, err error) {
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
		return rpm.Read(root, family.Host{Arch: "x86_64", Release: "8.6"})
	})
	if err != nil {
		return out, err
	}
	for _, s := range r.Sources {
		switch s.DisabledBy {
		case "", "flag":
			out.Facts = append(out.Facts, fmt.Sprintf("%+v", repo{
				s.ID, s.Name, s.Enabled, s.EffURLs, s.Mirrorlist, s.Metalink, s.SignedBy,
				s.Checks.Packages == "required", s.Checks.Metadata == "required", *s.Priority, s.File, s.Position,
			}))
		}
	}
	out.Refused, out.Why = r.Refused(), r.Problems
	return out, nil
}

// noText is a value that is no UTF-8, at which dnf up to 4.14 gives up; newer ones go on.
var noText = func() string {
	if text, err := os.ReadFile("/usr/lib/python3/dist-packages/dnf/const.py"); err == nil && !strings.Contains(string(text), "VERSION='4.14.") {
		return "2"
	}
	return "\xff"
}()

func trees() *rapid.Generator[map[string]string] {
	pick := func(list ...string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	boolean := pick("1", "0", "yes", "no", "True", "FALSE", "on", "off", "2", "", "enabled", "yes ", "\"1\"", "y", "None", "1 # c")
	number := pick("10", "99", "1", "-5", "+7", "10abc", "abc", "", " 5", "99999999999", "0x10", "1.5", "None")
	url := pick("http://a.example/$releasever/$basearch/", "https://b.example/${basearch}/os http://c.example/x", "/srv/repo", "file:///srv/repo", "http://a.example/,http://b.example/", "http://a.example/ , ,http://b.example/", "http://$v.example/${v}x$vx/$", "${", "${v", "None", "", "http://x/$unknown/${unknown}", "ftp://d.example", "http://a.example/\n  http://b.example/", "http://a.example/,\n\thttp://b.example/", "\n  http://b.example/\n \n  http://c.example/", "http://a.example/\r", "'http://q.example/'", "\"", "\"http://q.example/", "HTTP://A.example/$ARCH $arch")
	equals := pick("=", "=", " = ", "= ", "\t=\t", "=  \r")
	entry := rapid.Custom(func(t *rapid.T) string {
		switch rapid.IntRange(0, 15).Draw(t, "entry") {
		case 0, 1:
			return "enabled" + equals.Draw(t, "eq") + boolean.Draw(t, "bool")
		case 2:
			return pick("gpgcheck", "repo_gpgcheck", "sslverify", "GPGCHECK").Draw(t, "key") + equals.Draw(t, "eq") + boolean.Draw(t, "bool")
		case 3:
			return pick("priority", "cost").Draw(t, "key") + equals.Draw(t, "eq") + number.Draw(t, "number")
		case 4, 5:
			return "name" + equals.Draw(t, "eq") + pick("Gannet $releasever - $basearch", "Plover", "", "None", "'quoted name'", "a # b", "caf\u00e9", "name\n more\n  and more", "  x  ", "$v$v").Draw(t, "name")
		case 6:
			return pick("mirrorlist", "metalink").Draw(t, "key") + equals.Draw(t, "eq") + pick("http://m.example/$releasever?arch=$basearch", "", "None", "https://m.example/metalink?x").Draw(t, "mirror")
		case 7:
			return "gpgkey" + equals.Draw(t, "eq") + pick("file:///etc/pki/rpm-gpg/KEY-$releasever", "https://k.example/a,https://k.example/b", "/etc/pki/k", "").Draw(t, "gpgkey")
		case 8:
			return pick("type=rpm-md", "type=yum", "type=", "timeout=abc", "unknown=1", "exclude=a b,c", "arch=i386", "timeout=1e999", "skip_if_unavailable=maybe", "proxy=_none_", "password=x", "metadata_expire=never").Draw(t, "known")
		case 9:
			return pick("", " ", "# c", ";c", " # c", "\t", "  continued", " [x]", "\r", "key", "=value", "[x", "[]", "x y = z", "[a] # c", "type=odd", "name=\xff", "odd=\xff").Draw(t, "odd")
		default:
			return "baseurl" + equals.Draw(t, "eq") + url.Draw(t, "url")
		}
	})
	header := rapid.Custom(func(t *rapid.T) string {
		return pick("", "", "", "", " ").Draw(t, "indent") + "[" + pick("gannet", "gannet-extra", "plover", "gannet", "$basearch-x", "skerry:tools", "main", "bad id", "a/b", "${v}", "caf\u00e9", "a.b_c").Draw(t, "id") + "]" + pick("", "", "", "", "x", "xy", " # c", " ", "\r").Draw(t, "after")
	})
	text := rapid.Custom(func(t *rapid.T) string {
		eol := pick("\n", "\n", "\n", "\r\n").Draw(t, "eol")
		out := pick("", "", "", "# head\n", "\xef\xbb\xbf", "\n\n").Draw(t, "before")
		for range rapid.IntRange(0, 3).Draw(t, "sections") {
			out += header.Draw(t, "header") + eol
			for _, e := range rapid.SliceOfN(entry, 0, 5).Draw(t, "entries") {
				out += e + eol
			}
			out += pick("", eol).Draw(t, "gap")
		}
		if rapid.IntRange(0, 5).Draw(t, "cut") == 0 {
			out = strings.TrimRight(out, "\r\n")
		}
		return out
	})
	return rapid.Custom(func(t *rapid.T) map[string]string {
		out := map[string]string{"etc/dnf-releasever-of-the-test": "8.6", "etc/yum.repos.d/": ""}
		for _, n := range rapid.SliceOfNDistinct(pick("a.repo", "b.repo", "a-b.repo", "a.repo.rpmsave", ".hidden.repo", "x.REPO", "a b.repo", "sub.repo/x.repo", "zz.repo"), 1, 3, rapid.ID[string]).Draw(t, "files") {
			out["etc/yum.repos.d/"+n] = text.Draw(t, n)
		}
		if rapid.IntRange(0, 5).Draw(t, "other") == 0 {
			out[pick("etc/distro.repos.d/a.repo", "etc/yum/repos.d/c.repo", "srv/my.repos/m.repo", "etc/yum.repos.d/zl.repo").Draw(t, "where")] = pick("[gannet]\nbaseurl=http://other.example/\n", "-> /srv/none", "-> ../yum.repos.d/b.repo").Draw(t, "text")
		}
		if rapid.IntRange(0, 2).Draw(t, "configured") == 0 {
			out["etc/dnf/dnf.conf"] = pick("[main]\ngpgcheck=1\n", "[main]\ngpgcheck=True\nenabled=0\nrepo_gpgcheck=1\n", "[main]\nreposdir=/srv/my.repos, /etc/yum.repos.d/\n", "[main]\ngpgcheck=$v\n[inconf]\nname=In $v\nbaseurl=http://i.example/\n", "broken", "[main]\ngpgcheck=maybe\n[main]\ngpgcheck=1\n", "[main]\nvarsdir=/srv/vars\ngpgcheck=1\n", "[main]\nreposdir=\n", "", "[other]\n", "[main]\nreposdir=/srv/*.repos\n", "[main]\nname=\xff\n").Draw(t, "dnf.conf")
		}
		for _, n := range rapid.SliceOfNDistinct(pick("etc/dnf/vars/v", "etc/yum/vars/v", "etc/dnf/vars/releasever", "etc/dnf/vars/basearch", "etc/dnf/vars/arch", "srv/vars/v", "etc/dnf/vars/v/x"), 0, 2, func(s string) string { return filepath.Base(filepath.Dir(s)) + filepath.Base(s[:len(s)-1]) }).Draw(t, "vars") {
			out[n] = pick("8stream\n", "one\ntwo\n", "", "x\r\ny", "a b", "\n", "$basearch", "1", noText).Draw(t, "value")
		}
		if _, folder := out["etc/dnf/vars/v/x"]; folder {
			delete(out, "etc/dnf/vars/v")
		}
		return out
	})
}

func TestReadAgreesWithTheRealDNF(t *testing.T) {
	cell.Agree(t, cell.Without(cell.Spoilt(trees(), "etc/dnf-releasever-of-the-test"), `\r[^\n]`), ours, theirs)
}
