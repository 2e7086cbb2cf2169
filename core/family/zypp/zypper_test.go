package zypp_test

import (
	"encoding/xml"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
)

// repo is what zypper says of one repository.
type repo struct {
	Alias      string   `xml:"alias,attr"`
	Name       string   `xml:"name,attr"`
	Priority   int      `xml:"priority,attr"`
	Enabled    int      `xml:"enabled,attr"`
	Metadata   int      `xml:"repo_gpgcheck,attr"`
	Packages   int      `xml:"pkg_gpgcheck,attr"`
	GPGKey     string   `xml:"gpgkey,attr"`
	Mirrorlist string   `xml:"mirrorlist,attr"`
	Metalink   string   `xml:"metalink,attr"`
	URLs       []string `xml:"url"`
}

func theirs(c *cell.Cell, root string) (r cell.Reading, err error) {
	a, err := c.Run(root, "/usr/bin/zypper", "--xmlout", "lr", "-d")
	if err != nil {
		return r, err
	}
	if a.Code != 0 && a.Code != 6 { // 6: there is no repository at all
		return cell.Reading{Refused: true, Why: a.Out + a.Err}, nil
	}
	var said struct {
		List struct {
			Repos []repo `xml:"repo"`
		} `xml:"repo-list"`
	}
	if a.Code == 6 {
		return r, nil
	}
	if err := xml.Unmarshal([]byte(a.Out), &said); err != nil {
		return r, fmt.Errorf("%w in %q", err, a.Out)
	}
	for _, x := range said.List.Repos {
		r.Facts = append(r.Facts, fmt.Sprintf("%+v", x))
	}
	return r, nil
}

func flag(on bool) int {
	if on {
		return 1
	}
	return 0
}

// asXML is a text as it is read out of zypper's XML.
func asXML(s string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c == '\r':
			return '\n'
		case c < ' ' && c != '\t' && c != '\n':
			return '?'
		}
		return c
	}, s)
}

// level is that of this machine's processor, which a newer zypper looks for.
var level = func() int {
	info, err := os.ReadFile("/proc/cpuinfo")
	if err != nil {
		panic(err)
	}
	return survey.Read(rootfs.New(fstest.MapFS{}), survey.Machine{Arch: "x86_64", CPUInfo: info}).Survey.Traits.CPU.Level
}()

func ours(root string) (out cell.Reading, err error) {
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
		return zypp.Read(root, family.Host{Arch: "x86_64", OSRelease: "not asked for", Level: level})
	})
	if err != nil {
		return out, err
	}
	position := 0
	for _, s := range r.Sources {
		if s.DisabledBy != "" && s.DisabledBy != "flag" {
			continue
		}
		if s.Enabled {
			position++
			if s.Position != position {
				return out, fmt.Errorf("%s is at %d", s.ID, s.Position)
			}
		}
		key := append(s.SignedBy, "")[0]
		urls := slices.Clone(s.EffURLs)
		for _, p := range []*string{&key, &s.Mirrorlist, &s.Metalink} {
			*p = strings.ReplaceAll(*p, ":***@", "@")
		}
		for i := range urls {
			urls[i] = strings.ReplaceAll(urls[i], ":***@", "@")
		}
		if len(urls) == 0 {
			urls = nil
		}
		name := asXML(s.Name)
		out.Facts = append(out.Facts, fmt.Sprintf("%+v", repo{asXML(s.ID), name, *s.Priority, flag(s.Enabled), flag(s.Checks.Metadata == "required"), flag(s.Checks.Packages == "required"), key, s.Mirrorlist, s.Metalink, urls}))
	}
	out.Refused, out.Why = r.Refused(), r.Problems
	return out, nil
}

func trees() *rapid.Generator[map[string]string] {
	pick := func(list ...string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	boolean := pick("1", "0", "yes", "no", "True", "FALSE", "on", "off", "2", "", "always", "never", "+", "-", "+1", "00", "x", "0x0", "010", "-1", "1x")
	number := pick("10", "99", "0", "-4", "+7", "10x", "x", "", " 5", "99999999999", "9223372036854775808", "-9223372036854775809", "0x10", "010", "08", "1.5")
	good := pick("http://a.example/$releasever/$basearch/", "https://B.Example/x/?b=1&a=2", "http://a.example http://b.example/y", "ftp://f.example//abs", "dir:/srv/repo", "/srv/repo/$v", "file:///srv/x", "http://$v.example/${v}/${w:-d}/${v:+e}/$w", "cd:/?devices=/dev/sr0", "iso:/?iso=a.iso&url=dir:/srv", "nfs://n.example/x", "http://u:p@a.example/", "http://u@a.example:8080/x", "http://a.example:09/x", "http://a.example:0/", "http://a.example:/x", "http://a.example/, http://b.example/", "plugin:p?x=y", "obs:a:b", "http://a.example/x;p=1/y", "https://[fe80::1]/x", "http://a.example/%7Ex", "hd:/x?device=/dev/sda1", "http://a.example/ ,http://b.example/ ,", "")
	bad := pick("nourl", "http://", "http:///x", "http://a.example:0/", "http://a_b.-c/", "file://", "dir://h/x", "http://a.example/%zz", "http://a.example/\"x\"", "1http://x/", "http://$x/", "http://a.example/$sp", "//h/x", "http://a.example/x#", "http://a.example/x?", "http://a.example/\u00e9", "http://a.example/{x}", "file://u@h/x", "file://h:1/x", "smb:x", "ssh://:1/x", "rsync://u@/x", "http://a.example:/x", "http://a..b/", "http://a.example./", "http://a.example/x y z:")
	url := rapid.Custom(func(t *rapid.T) string {
		if rapid.IntRange(0, 14).Draw(t, "bad") == 0 {
			return bad.Draw(t, "url")
		}
		return good.Draw(t, "url")
	})
	equals := pick("=", "=", " = ", "= ", "\t=\t")
	entry := rapid.Custom(func(t *rapid.T) string {
		switch rapid.IntRange(0, 16).Draw(t, "entry") {
		case 0:
			return "enabled" + equals.Draw(t, "eq") + boolean.Draw(t, "bool")
		case 1, 2:
			return pick("gpgcheck", "repo_gpgcheck", "pkg_gpgcheck").Draw(t, "key") + equals.Draw(t, "eq") + boolean.Draw(t, "bool")
		case 3:
			return "priority" + equals.Draw(t, "eq") + number.Draw(t, "number")
		case 4, 5:
			return "name" + equals.Draw(t, "eq") + pick("Plover $releasever ($arch)", "Skerry", "", "\"quoted\"", "a # b", "$v ${v} ${v:-d} ${w:-d$v} ${v:+e$v} ${w:+e} $w ${w}", "${w:-${v}}", "${v", "$", "$$v", "\\$v", "${w:-a\\}b}", "${w:-\\$v}", "${}", "${v:}", "${v:=x}", "${e:-x}|${e:+y}|$e", "$releasever_major-$releasever_minor", "a=b", "$v$v$", "${w:-a{b}c}", "$-v", "${v-x}").Draw(t, "name")
		case 6:
			return pick("mirrorlist", "metalink").Draw(t, "key") + equals.Draw(t, "eq") + url.Draw(t, "url")
		case 7:
			return "gpgkey" + equals.Draw(t, "eq") + url.Draw(t, "url")
		case 8:
			return pick("type=rpm-md", "type=odd", "autorefresh=1", "keeppackages=x", "path=/sub", "proxy=p.example:3128", "proxy=_none_", "service=known", "service=lost", "service=", "unknown=1", "NAME=x", "proxy=http://p.example:1/").Draw(t, "known")
		case 9:
			return pick("", " ", "# c", ";c", " # c", "\t", "http://c.example/go-on", "  http://c.example/?q=1", "=value", "x y = z", "baseurl", "x?y=z").Draw(t, "odd")
		default:
			return "baseurl" + equals.Draw(t, "eq") + url.Draw(t, "url")
		}
	})
	header := rapid.Custom(func(t *rapid.T) string {
		id := pick("plover", "plover-extra", "skerry", "plover", "a$v", "a b", "Plover", "a.b_c", "a/b", "x]y", "caf\u00e9", " sp ", "skerry:tools").Draw(t, "id")
		if rapid.IntRange(0, 25).Draw(t, "odd") == 0 {
			id = pick("", ".dot", "[x]").Draw(t, "oddid")
		}
		return pick("", "", "", "", " ").Draw(t, "indent") + "[" + id + "]" + pick("", "", "", "", "x", " # c", " ").Draw(t, "after")
	})
	text := rapid.Custom(func(t *rapid.T) string {
		eol := "\n"
		if rapid.IntRange(0, 30).Draw(t, "eol") == 0 {
			eol = "\r\n"
		}
		out := pick("", "", "", "", "", "", "# head\n", "\n\n", "baseurl=http://h/\n", "name=x\n").Draw(t, "before")
		for range rapid.IntRange(0, 3).Draw(t, "sections") {
			out += header.Draw(t, "header") + eol
			for _, e := range rapid.SliceOfN(entry, 0, 4).Draw(t, "entries") {
				out += e + eol
			}
		}
		if rapid.IntRange(0, 5).Draw(t, "cut") == 0 {
			out = strings.TrimRight(out, "\r\n")
		}
		return out
	})
	return rapid.Custom(func(t *rapid.T) map[string]string {
		out := map[string]string{
			"etc/zypp/repos.d/": "", "etc/zypp/services.d/known.service": "[known]\nurl=http://s.example/\n",
			"etc/zypp/vars.d/v": "Val", "etc/zypp/vars.d/e": "", "etc/zypp/vars.d/sp": "a b", "etc/zypp/vars.d/x.y": "q",
		}
		if rapid.IntRange(0, 3).Draw(t, "product") > 0 {
			out["etc/products.d/base.prod"] = "<?xml version=\"1.0\"?>\n<product schemeversion=\"0\">\n<vendor>Skerry</vendor>\n<name>Plover</name>\n<version>15.3</version>\n<release>0</release>\n<arch>x86_64</arch>\n</product>\n"
			out["etc/products.d/baseproduct"] = "-> base.prod"
		}
		for _, n := range rapid.SliceOfNDistinct(pick("a.repo", "b.repo", "a-b.repo", "a.repo.rpmsave", ".hidden.repo", "x.REPO", "a b.repo", "sub.repo/x.repo", "zz.repo"), 1, 2, rapid.ID[string]).Draw(t, "files") {
			out["etc/zypp/repos.d/"+n] = text.Draw(t, n)
		}
		if rapid.IntRange(0, 2).Draw(t, "configured") == 0 {
			out["etc/zypp/zypp.conf"] = pick("[main]\ngpgcheck = off\n", "[main]\nrepo_gpgcheck = off\n", "[main]\ngpgcheck=0\npkg_gpgcheck=on\n", "[main]\ngpgcheck=strict\n", "[main]\narch = i586\n", "[main]\nreposdir=/srv/repos\n", "[main]\nvarsdir = /srv/vars\n", "[main]\nconfigdir=/srv/zypp\n", "junk\n", "gpgcheck=off\n", "[main]\ngpgcheck=no\nrepo_gpgcheck=1\n", "[main]\n## c\n# gpgcheck=off\n", "[main]\ngpgcheck=\n").Draw(t, "zypp.conf")
			for range rapid.IntRange(0, 2).Draw(t, "drop-ins") {
				name := pick("etc/zypp/zypp.conf.d/a.conf", "etc/zypp/zypp.conf.d/b.conf", "etc/zypp/zypp.conf.d/b.conf.old").Draw(t, "drop-in")
				out[name] = pick("[main]\ngpgcheck = off\n", "[main]\ngpgcheck = on\nrepo_gpgcheck=off\n", "[main]\nreposdir=/srv/repos\n",
					"[main]\npkg_gpgcheck=on\n", "[env]\nTERN=1\n", "", "junk\n", "[Main]\ngpgcheck=off\n").Draw(t, "dropped")
			}
			out["srv/repos/m.repo"] = "[moved]\nbaseurl=http://m.example/$v\n"
			out["srv/vars/v"] = "Moved"
		}
		if rapid.IntRange(0, 9).Draw(t, "service") == 0 {
			out["etc/zypp/services.d/"+pick("x.service", "x.conf", ".x.service").Draw(t, "service file")] = pick("[lost]\nurl=http://s.example/\n", "[lost]\n", "junk\n", "[lost]\nurl=nourl\n", "[lost]\ntype=odd\n", "[lost]\ntype=RIS\nurl=http://$v/\n", "[]\nurl=http://x/\n", "[lost]\nurl=http://$sp/\n", "x=y\n").Draw(t, "service")
		}
		if rapid.IntRange(0, 5).Draw(t, "variables") == 0 {
			out["etc/zypp/vars.d/"+pick("releasever", "arch", "basearch", "releasever_major", ".hidden", "w").Draw(t, "var")] = pick("42.3\n", "x\ny", " lead", "12", "#c\nx\n").Draw(t, "value")
		}
		return out
	})
}

func TestReadAgreesWithTheRealZypper(t *testing.T) {
	cell.Agree(t, cell.Spoilt(trees(), "etc/products.d"), ours, theirs)
}
