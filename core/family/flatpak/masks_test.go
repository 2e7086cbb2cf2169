package flatpak_test

import (
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

// masked draws repositories whose settings say which applications stay as they are.
func masked() *rapid.Generator[map[string]string] {
	pick := func(list ...string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	pattern := pick("org.skerry.Tern", "org.skerry.*", "app/org.skerry.Tern/*/stable", "org.skerry.Tern//1", "", " ", "a b", "org.x\\;y", "\\s", "end\\",
		"runtime/org.skerry.Platform", "*", "org.skerry.Tern;", "x\\q", "org.skerry.Tern")
	line := rapid.Custom(func(t *rapid.T) string {
		key := pick("xa.masked", "xa.masked", "xa.masked", "xa.masked", "xa.pinned", "xa.masked[de]", "Xa.masked", " xa.masked").Draw(t, "key")
		eq := pick("=", "=", "=", " = ", "=\t").Draw(t, "eq")
		list := rapid.SliceOfN(pattern, 0, 3).Draw(t, "patterns")
		return key + eq + strings.Join(list, ";") + pick(";", ";", "").Draw(t, "end")
	})
	return rapid.Custom(func(t *rapid.T) map[string]string {
		eol := pick("\n", "\n", "\n", "\r\n").Draw(t, "eol")
		out := "[core]" + eol + "repo_version=1" + eol + "mode=bare-user-only" + eol
		for range rapid.IntRange(0, 3).Draw(t, "lines") {
			if rapid.IntRange(0, 5).Draw(t, "group") == 0 {
				out += pick("[core]", "[remote \"plover\"]", "[Core]").Draw(t, "header") + eol
			}
			out += line.Draw(t, "line") + eol
		}
		return map[string]string{
			"etc/flatpak/remotes.d/": "", "var/lib/flatpak/repo/objects/": "", "var/lib/flatpak/repo/tmp/": "",
			"var/lib/flatpak/repo/config": out,
		}
	})
}

// What flatpak calls masked is what we call held.
func TestMasksAreThoseOfTheRealFlatpak(t *testing.T) {
	cell.Agree(t, cell.Without(cell.Spoilt(masked()), `[^\s=]\t`), func(root string) (out cell.Reading, err error) {
		r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return flatpak.Read(root) })
		for _, h := range r.Holds {
			out.Facts = append(out.Facts, h.What)
		}
		out.Refused, out.Why = r.Refused(), r.Problems
		return out, err
	}, func(c *cell.Cell, root string) (out cell.Reading, err error) {
		if all, err := theirs(c, root); err != nil || all.Refused { // it masks though it lists no remote any more
			return all, err
		}
		a, err := c.Run(root, "/usr/bin/flatpak", "--system", "mask")
		if err != nil {
			return out, err
		}
		if a.Code != 0 {
			return cell.Reading{Refused: true, Why: a.Err}, nil
		}
		for said := range strings.Lines(a.Out) {
			if what, is := strings.CutPrefix(strings.TrimRight(said, "\n"), "  "); is {
				out.Facts = append(out.Facts, what)
			}
		}
		return out, nil
	})
}
