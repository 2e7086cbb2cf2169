package flatpak_test

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

const columns = "name,title,url,priority,options"

// theirs lists the remotes in flatpak's order: name, title, URL, priority, whether
// it is off and whether it verifies.
func theirs(c *cell.Cell, root string) (r cell.Reading, err error) {
	a, err := c.Run(root, "/usr/bin/flatpak", "--system", "remotes", "--columns="+columns, "--show-disabled")
	if err != nil {
		return r, err
	}
	if a.Code != 0 {
		return cell.Reading{Refused: true, Why: a.Err}, nil
	}
	for line := range strings.SplitSeq(a.Out, "\n") {
		f := strings.Split(line, "\t")
		if line == "" || len(f) < 4 {
			continue
		}
		options := strings.Split(append(f, "")[4], ",")
		r.Facts = append(r.Facts, fact(f[0], f[1], f[2], f[3], slices.Contains(options, "disabled"), !slices.Contains(options, "no-gpg-verify")))
	}
	return r, nil
}

func fact(name, title, url, priority string, off, verify bool) string {
	for _, p := range []*string{&title, &url} {
		if *p = strings.TrimSpace(*p); *p == "-" {
			*p = "" // flatpak's sign for nothing
		}
	}
	return fmt.Sprintf("%s|%s|%s|%s|off=%v|verify=%v", name, title, url, priority, off, verify)
}

func ours(root string) (out cell.Reading, err error) {
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
		return flatpak.Read(root)
	})
	if err != nil {
		return out, err
	}
	slices.SortStableFunc(r.Sources, func(a, b source.Source) int {
		if *a.Priority != *b.Priority {
			return *b.Priority - *a.Priority
		}
		return strings.Compare(a.ID, b.ID)
	})
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
		url := strings.Join(s.EffURLs, " ")
		out.Facts = append(out.Facts, fact(s.ID, s.Name, url, strconv.Itoa(*s.Priority), !s.Enabled, s.Checks.Packages == "required"))
	}
	out.Refused, out.Why = r.Refused(), r.Problems
	return out, nil
}

func trees() *rapid.Generator[map[string]string] {
	pick := func(list ...string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	boolean := pick("true", "false", "1", "0", "true", "false", "true ", "yes", "TRUE", "", "no", "truex", "01")
	entry := rapid.Custom(func(t *rapid.T) string {
		eq := pick("=", "=", " = ", "= ", "\t=").Draw(t, "eq")
		switch rapid.IntRange(0, 12).Draw(t, "entry") {
		case 0, 1, 2, 3:
			return "url" + eq + pick("https://f.example/repo/", "https://f.example/other", "", "oci+https://o.example", "file:///srv/f", "https://f.example/a\\sb", "https://f.example/\\x\\\\y").Draw(t, "url")
		case 4:
			return "gpg-verify" + eq + pick("true", "false", "1", "0", "true ").Draw(t, "verify")
		case 5:
			return "gpg-verify-summary" + eq + boolean.Draw(t, "bool")
		case 6, 7:
			return "xa.disable" + eq + boolean.Draw(t, "bool")
		case 8:
			return "xa.prio" + eq + pick("0", "5", "-3", "abc", "", "10 x", "10x", "+2", "99999999999", " 7", "2147483648", "0x10").Draw(t, "prio")
		case 9:
			return "xa.title" + eq + pick("Plover apps", "", "\\sTitle", "a\\\\b", "x\\q", "end\\", "caf\u00e9").Draw(t, "title")
		case 10:
			return pick("xa.noenumerate=true", "xa.title[de]=Deutsch", "collection-id=org.example.X", "xa.filter=", "unknown=1", "key with space=1").Draw(t, "known")
		default:
			return pick("", "# c", " # c", "  url=https://indented.example/", "\t", "\f").Draw(t, "odd")
		}
	})
	header := rapid.Custom(func(t *rapid.T) string {
		if rapid.IntRange(0, 12).Draw(t, "other") == 0 {
			return pick("[other]", "[remote plover]", "[remote \"\"]", " [remote \"in\"]", "[remote \"b\"] ", "[remote \"c\"]\t", "[core]", "[Remote \"x\"]").Draw(t, "header")
		}
		return "[remote \"" + pick("plover", "skerry", "plover", "a b", "a\"b", "mussel-apps", "B", "pl\u2028over", "pl\u0085over", "pl\u00a0over").Draw(t, "name") + "\"]"
	})
	eols := pick("\n", "\n", "\n", "\n", "\r\n")
	config := rapid.Custom(func(t *rapid.T) string {
		eol := eols.Draw(t, "eol")
		out := "[core]" + eol + "repo_version=1" + eol + "mode=bare-user-only" + eol
		if rapid.IntRange(0, 4).Draw(t, "setting") == 0 {
			out += pick("min-free-space-size=500MB", "min-free-space-size=1x", "min-free-space-size=2GB", "min-free-space-percent=0", "min-free-space-percent=100", "min-free-space-percent=x", "fsync=false", "fsync=no", "locking=maybe", "mode=odd", "mode=bare", "repo_version=2", "xa.applied-remotes=gone;other;", "archive=true", "archive=false", "Encoding=UTF-8", "Encoding=latin1", "repo_version= 1", "repo_version=1 ").Draw(t, "line") + eol
		}
		for range rapid.IntRange(0, 3).Draw(t, "remotes") {
			out += header.Draw(t, "header") + eol
			for _, e := range rapid.SliceOfN(entry, 0, 4).Draw(t, "entries") {
				out += e + eol
			}
		}
		if rapid.IntRange(0, 8).Draw(t, "broken") == 0 {
			out += pick("junk", "=x", "[x", "[x]y", "[]", "[a[b]", "k[=1", "k[de]x=1", "[x]=y", "[remote \"z\"]\nurl=\xff", "gpg-verify=yes", "[remote \"z\"]\ngpg-verify=odd", " =1", "a]=1", "k[d e]=1", "k[]=1", "\v", "x\v=1").Draw(t, "what") + eol
		}
		if rapid.IntRange(0, 5).Draw(t, "cut") == 0 {
			out = strings.TrimRight(out, "\r\n")
		}
		return out
	})
	part := rapid.Custom(func(t *rapid.T) string {
		eol := eols.Draw(t, "eol")
		out := pick("[Flatpak Repo]", "[Flatpak Repo]", "[Flatpak Repo]", "[Flatpak Repo]", "[flatpak repo]", "", "[Flatpak Ref]\n[Flatpak Repo]").Draw(t, "group") + eol
		if rapid.IntRange(0, 9).Draw(t, "located") > 0 {
			out += "Url=" + pick("https://p.example/repo", "", "https://p.example/a\\sb", " https://p.example/").Draw(t, "url") + eol
		}
		for range rapid.IntRange(0, 2).Draw(t, "more") {
			out += pick("Title=Parts", "Title=", "Title[C]=Localised", "GPGKey=", "GPGKey=AAAA", "Version=1", "Version=2", "Version= 1", "NoDeps=yes", "CollectionID=org.example.P", "CollectionID=", "DefaultBranch=stable", "Homepage=https://p.example/", "junk", "# c", "Url=https://later.example/", "Comment=\\q").Draw(t, "line") + eol
		}
		return out
	})
	return rapid.Custom(func(t *rapid.T) map[string]string {
		out := map[string]string{"etc/flatpak/remotes.d/": ""}
		if rapid.IntRange(0, 5).Draw(t, "repository") > 0 {
			out["var/lib/flatpak/repo/objects/"] = ""
			out["var/lib/flatpak/repo/tmp/"] = ""
			out["var/lib/flatpak/repo/config"] = config.Draw(t, "config")
		}
		if rapid.IntRange(0, 2).Draw(t, "parts") == 0 {
			for _, n := range rapid.SliceOfNDistinct(pick("parts.flatpakrepo", "gone.flatpakrepo", "plover.flatpakrepo", ".hid.flatpakrepo", "x.flatpakrepo.bak", "X.FLATPAKREPO", "a c.flatpakrepo", "sub.flatpakrepo/y"), 1, 2, rapid.ID[string]).Draw(t, "files") {
				out["etc/flatpak/remotes.d/"+n] = part.Draw(t, n)
			}
		}
		return out
	})
}

func TestReadAgreesWithTheRealFlatpak(t *testing.T) {
	cell.Agree(t, cell.Without(cell.Spoilt(trees()), `[^\s=]\t`), ours, theirs)
}
