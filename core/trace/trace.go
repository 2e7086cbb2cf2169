// Package trace reads from a host's own files when something on it was written, and what its
// logs say of that time: which package was installed then, and who used sudo. It runs no
// program, and believes nobody: what it finds stood near in time, and is told as that.
package trace

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/text/pattern"
)

// Touched is what is known of the last time that a file was written.
type Touched struct {
	At      time.Time `json:"at,omitzero" doc:"When the file system says that it was changed last; of its folder where it is gone"`
	Gone    bool      `json:"gone,omitempty" doc:"It is not there any more"`
	Step    *Step     `json:"step,omitempty" doc:"What the package manager did then"`
	Login   *Login    `json:"login,omitempty" doc:"Who used sudo shortly before"`
	Logins  string    `json:"logins,omitempty" enum:"read,not-allowed,none" doc:"Whether the log of logins was read; none: none can be"`
	Unknown string    `json:"unknown,omitempty" doc:"Why nothing is known"`
}

// Step is a package that was installed, upgraded or removed.
type Step struct {
	At      time.Time `json:"at"`
	Package string    `json:"package"`
	From    string    `json:"from,omitempty" doc:"Version before; absent: it was not installed"`
	To      string    `json:"to,omitempty" doc:"Version afterwards; absent: it was removed"`
	Owns    bool      `json:"owns" doc:"The file is the package's"`
}

// Login is somebody who became root.
type Login struct {
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Program string    `json:"program,omitempty" doc:"What was run, without its arguments"`
}

// How near something must be to the time at which a file was written.
const (
	stepNear  = 2 * time.Minute
	loginNear = 15 * time.Minute // before: an editor is open for a while
	slack     = 2 * time.Second  // clocks of file systems and of logs
)

// Values of Touched.Logins.
const (
	LoginsRead       = "read"
	LoginsNotAllowed = "not-allowed"
	LoginsNone       = "none"
)

// mostLog bounds what is read of the end of a log, in bytes.
const mostLog = 4 << 20

// Mark is when the file system says that a file was changed last.
type Mark struct {
	At   time.Time // of the folder above where the file is gone; zero: not known
	Gone bool
}

// Look tells of files of a host when they were written and what stood near. zone is the one in
// which its logs are written; logins says whether those of people may be read.
func Look(root *rootfs.FS, family string, zone *time.Location, files map[string]Mark, logins bool) map[string]Touched {
	out := make(map[string]Touched, len(files))
	var people []Login
	read := LoginsNotAllowed
	if logins {
		people, read = logged(root, zone, oldest(files).Add(-loginNear))
	}
	steps := stepsOf(root, family, zone, files)
	owner := ownersOf(root, family, steps, files)
	for name, m := range files {
		t := Touched{At: m.At, Gone: m.Gone, Logins: read}
		if m.At.IsZero() {
			t.Unknown = "the file system does not say when"
			out[name] = t
			continue
		}
		t.Step = nearest(steps, m.At, owner[name])
		t.Login = before(people, m.At)
		out[name] = t
	}
	return out
}

// nearest is the step next to a time, one of the package that owns the file before all others.
func nearest(steps []Step, at time.Time, owner string) (best *Step) {
	for i := range steps {
		s := steps[i]
		away := s.At.Sub(at).Abs()
		if away > stepNear {
			continue
		}
		s.Owns = s.Package == owner
		if best == nil || s.Owns && !best.Owns || s.Owns == best.Owns && away < best.At.Sub(at).Abs() {
			best = &s
		}
	}
	return best
}

// before is the last login before a time.
func before(people []Login, at time.Time) (best *Login) {
	for i := range people {
		l := &people[i]
		if l.At.After(at.Add(slack)) || at.Sub(l.At) > loginNear {
			continue
		}
		if best == nil || l.At.After(best.At) {
			best = l
		}
	}
	return best
}

// tail hands the last lines of a log to visit; a first one that is cut is left out.
func tail(root *rootfs.FS, name string, visit func(line string)) error {
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	cut := false
	if from := info.Size() - mostLog; from > 0 {
		s, ok := f.(io.Seeker)
		if !ok {
			return errors.New("it cannot be read from the middle")
		}
		if _, err := s.Seek(from, io.SeekStart); err != nil {
			return err
		}
		cut = true
	}
	in := bufio.NewReaderSize(io.LimitReader(f, mostLog), 1<<16)
	for {
		line, err := in.ReadSlice('\n')
		long := errors.Is(err, bufio.ErrBufferFull)
		for errors.Is(err, bufio.ErrBufferFull) {
			_, err = in.ReadSlice('\n')
		}
		if !cut && !long {
			visit(string(bytes.TrimRight(line, "\r\n")))
		}
		cut = false
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// oldest is the first time at which one of files was written, as far as that is known.
func oldest(files map[string]Mark) (at time.Time) {
	for _, m := range files {
		if !m.At.IsZero() && (at.IsZero() || m.At.Before(at)) {
			at = m.At
		}
	}
	return at
}

// logged reads who used sudo: from journals since a time, from text logs whatever their ends hold.
func logged(root *rootfs.FS, zone *time.Location, since time.Time) (out []Login, read string) {
	read = LoginsNone
	for _, name := range []string{"/var/log/auth.log.1", "/var/log/auth.log", "/var/log/secure"} {
		err := tail(root, name, func(line string) {
			if l, ok := sudo(line, root.Now(), zone); ok {
				out = append(out, l)
			}
		})
		if err == nil {
			read = LoginsRead
		}
	}
	if some, is := journaled(root, since); is {
		out, read = append(out, some...), LoginsRead
	}
	return out, read
}

// sudo reads a line that sudo writes: "… sudo[12]:   mira : TTY=pts/0 ; PWD=/ ; USER=root ;
// COMMAND=/usr/bin/vi …". now tells the year, which older logs leave out.
func sudo(line string, now time.Time, zone *time.Location) (l Login, ok bool) {
	at, rest, ok := stamp(line, now, zone)
	if !ok {
		return l, false
	}
	_, rest, ok = strings.Cut(rest, " ") // the host's name
	tag, rest, said := strings.Cut(rest, ": ")
	if !ok || !said || !sudoTag().MatchString(strings.TrimSpace(tag)) {
		return l, false
	}
	if l, ok = usedSudo(rest); ok {
		l.At = at
	}
	return l, ok
}

// sudoTag is how sudo names itself in a log: another program's name may begin alike.
var sudoTag = pattern.Lazy(`^sudo(\[\d+\])?$`)

// usedSudo reads what sudo says: "mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi …". Whom it refuses,
// it says why before all that: "mira : user NOT in sudoers ; TTY=…". Who asked what he may do ran nothing,
// and who became another than root changed nothing of root's.
func usedSudo(text string) (l Login, ok bool) {
	who, what, said := strings.Cut(text, " : ")
	if who = strings.TrimSpace(who); !said || who == "" || strings.ContainsAny(who, " ;=") || !sudoField().MatchString(what) {
		return l, false
	}
	parts := strings.Split(what, " ; ")
	i := slices.IndexFunc(parts, func(p string) bool { return strings.HasPrefix(p, "COMMAND=") })
	if i < 0 || slices.ContainsFunc(parts[:i], func(p string) bool { return strings.HasPrefix(p, "USER=") && p != "USER=root" }) {
		return l, false
	}
	program, _, _ := strings.Cut(strings.TrimPrefix(parts[i], "COMMAND="), " ")
	return Login{Who: who, Program: path.Clean(program)}, program != "list" && program != "validate"
}

// sudoField is how sudo writes each field of a line.
var sudoField = pattern.Lazy(`^[A-Z]+=`)

// stamp reads the time at which a line of a log of the system begins: RFC 3339, or the older
// form without a year and a zone.
func stamp(line string, now time.Time, zone *time.Location) (at time.Time, rest string, ok bool) {
	if first, more, cut := strings.Cut(line, " "); cut {
		if t, err := time.Parse(time.RFC3339Nano, first); err == nil {
			return t, more, true
		}
	}
	const form = "Jan _2 15:04:05"
	if len(line) < len(form)+1 {
		return at, "", false
	}
	t, err := time.ParseInLocation(form, line[:len(form)], zone)
	if err != nil {
		return at, "", false
	}
	t = t.AddDate(now.In(zone).Year(), 0, 0)
	if t.After(now.Add(24 * time.Hour)) { // of last year
		t = t.AddDate(-1, 0, 0)
	}
	return t, strings.TrimPrefix(line[len(form):], " "), true
}
