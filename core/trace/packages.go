package trace

import (
	"bufio"
	"path"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/pkgdb"
	"patientlantern.example/lantern/core/rootfs"
)

// stepsOf reads what the package manager did near the times at which files were written.
func stepsOf(root *rootfs.FS, family string, zone *time.Location, files map[string]Mark) (out []Step) {
	near := func(at time.Time) bool {
		for _, m := range files {
			if at.Sub(m.At).Abs() <= stepNear {
				return true
			}
		}
		return false
	}
	add := func(s Step, ok bool) {
		if ok && near(s.At) {
			out = append(out, s)
		}
	}
	switch family {
	case deb.Family:
		for _, name := range []string{"/var/log/dpkg.log.1", "/var/log/dpkg.log"} {
			_ = tail(root, name, func(line string) { add(dpkgStep(line, zone)) }) // a log that is not there says nothing
		}
	case arch.Family:
		_ = tail(root, "/var/log/pacman.log", func(line string) { add(pacmanStep(line)) })
	case rpm.Family, zypp.Family:
		db, err := pkgdb.OpenRPM(root)
		if err != nil {
			return nil
		}
		defer db.Close()
		_ = db.All(func(p pkgdb.Package) {
			add(Step{At: p.Installed(), Package: p.Name(), To: p.Version()}, !p.Installed().IsZero() && p.Name() != "gpg-pubkey") // a key
		})
	}
	return out
}

// dpkgStep reads a line of dpkg's log: "2026-11-26 03:12:01 upgrade name:arch OLD NEW".
func dpkgStep(line string, zone *time.Location) (s Step, ok bool) {
	p := strings.Fields(line)
	if len(p) < 6 {
		return s, false
	}
	at, err := time.ParseInLocation("2006-01-02 15:04:05", p[0]+" "+p[1], zone)
	if err != nil {
		return s, false
	}
	switch p[2] {
	case "install", "upgrade", "remove", "purge":
	default:
		return s, false
	}
	s = Step{At: at, Package: p[3], From: p[4], To: p[5]}
	if s.From == "<none>" {
		s.From = ""
	}
	if s.To == "<none>" {
		s.To = ""
	}
	return s, true
}

// pacmanStep reads a line of pacman's log: "[2026-11-26T03:12:01+0000] [ALPM] upgraded name
// (1-1 -> 2-1)".
func pacmanStep(line string) (s Step, ok bool) {
	head, rest, ok := strings.Cut(strings.TrimPrefix(line, "["), "] [ALPM] ")
	if !ok {
		return s, false
	}
	at, err := time.Parse("2006-01-02T15:04:05-0700", head)
	if err != nil {
		return s, false
	}
	p := strings.SplitN(rest, " ", 3)
	if len(p) != 3 {
		return s, false
	}
	versions := strings.Trim(p[2], "()")
	s = Step{At: at, Package: p[1]}
	switch p[0] {
	case "installed", "reinstalled":
		s.To = versions
	case "upgraded", "downgraded":
		s.From, s.To, ok = strings.Cut(versions, " -> ")
	case "removed":
		s.From = versions
	default:
		return s, false
	}
	return s, ok
}

// ownersOf tells which of the packages of some steps own which files. Each list of files is
// read once, however many files are asked for.
func ownersOf(root *rootfs.FS, family string, steps []Step, files map[string]Mark) map[string]string {
	out := map[string]string{}
	if family == rpm.Family || family == zypp.Family {
		db, err := pkgdb.OpenRPM(root)
		if err != nil || len(steps) == 0 {
			return out
		}
		defer db.Close()
		for file := range files {
			out[file], _ = db.Owner(file) // one that cannot be told is nobody's
		}
		return out
	}
	for i := range steps {
		s := &steps[i]
		for _, list := range listsOf(family, s) {
			ownedIn(root, list, func(file string) {
				if _, asked := files[file]; asked {
					out[file] = s.Package
				}
			})
		}
	}
	return out
}

// listsOf are the lists of the files of a package.
func listsOf(family string, s *Step) []string {
	switch family {
	case deb.Family:
		name, _, _ := strings.Cut(s.Package, ":")
		stem, full := path.Join("/var/lib/dpkg/info", name), path.Join("/var/lib/dpkg/info", s.Package)
		return []string{stem + ".list", full + ".list", stem + ".conffiles", full + ".conffiles"}
	case arch.Family:
		if s.To != "" {
			return []string{path.Join("/var/lib/pacman/local", s.Package+"-"+s.To, "files")}
		}
	}
	return nil
}

// ownedIn hands the files of a list to visit. A list that is not there has none.
func ownedIn(root *rootfs.FS, list string, visit func(file string)) {
	f, err := root.Open(list)
	if err != nil {
		return
	}
	defer f.Close()
	in := bufio.NewScanner(f)
	for n := 0; in.Scan() && n < 1_000_000; n++ {
		visit(path.Join("/", in.Text())) // pacman writes them without the first slash
	}
}

// Says is what is known, in a sentence. zone is the one that it is told in.
func (t *Touched) Says(zone *time.Location) string {
	if t.At.IsZero() {
		return "when it was written is not known: " + t.Unknown
	}
	text := "written " + t.At.In(zone).Format("2006-01-02 15:04:05 MST")
	if t.Gone {
		text = "gone; its folder was changed last " + t.At.In(zone).Format("2006-01-02 15:04:05 MST")
	}
	if s := t.Step; s != nil {
		text += ", when " + s.says()
	}
	switch {
	case t.Login != nil:
		text += ", " + ago(t.At.Sub(t.Login.At)) + " after " + t.Login.Who + " used sudo"
		if t.Login.Program != "" {
			text += " (" + t.Login.Program + ")"
		}
	case t.Step != nil && t.Step.Owns:
	case t.Logins == LoginsNotAllowed:
		text += "; by whom is not known: the policy does not say read-logins"
	case t.Logins == LoginsNone:
		text += "; by whom is not known: no log of logins can be read"
	default:
		text += "; by whom is not known"
	}
	return text
}

func (s *Step) says() string {
	text := s.Package
	switch {
	case s.From != "" && s.To != "":
		text += " " + s.From + " became " + s.To
	case s.To != "":
		text += " " + s.To + " was installed"
	default:
		text += " " + s.From + " was removed"
	}
	if s.Owns {
		return text + ", whose file it is"
	}
	return text + ", whose file it is not"
}

func ago(d time.Duration) string {
	switch d = max(d, 0).Round(time.Second); {
	case d < time.Minute:
		return strconv.Itoa(int(d.Seconds())) + " s"
	default:
		return strconv.Itoa(int(d.Minutes())) + " min"
	}
}
