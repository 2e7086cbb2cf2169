package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"patientlantern.example/lantern/cli"
)

// mostShown is how many lines of an answer a help page shows.
const mostShown = 9

// addresses of a demo are its own; help pages show those that it has by default.
var addresses = regexp.MustCompile(`127\.0\.0\.1:[0-9]+`)

// lessons runs the steps of testdata/lessons.steps on the demo, and holds what the commands
// answer against what help pages show. With LANTERN_LESSONS=write it writes that anew.
func lessons(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 0 {
		ts.Fatalf("usage: lessons")
	}
	text, err := os.ReadFile("testdata/lessons.steps")
	ts.Check(err)
	at := upstream.FindString(ts.ReadFile("demo-hosts/gw-01/etc/apt/sources.list"))
	var record strings.Builder
	record.WriteString("# What commands answer, as help pages show it; written by make lessons.\n")
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSuffix(line, "\n")
		if line == "" || line[0] == '#' {
			continue
		}
		command := strings.ReplaceAll(line[2:], "http://127.0.0.1:7801", at)
		switch line[0] {
		case '~':
			pattern, of, _ := strings.Cut(command, " ~ ")
			until(ts, false, append([]string{pattern}, strings.Fields(of)...))
		case '.':
			if _, out, status := shell(ts, command); status != 0 {
				ts.Fatalf("%s: %d: %s", command, status, out)
			}
		case '$':
			real, as, other := strings.Cut(command, " => ")
			command, out, status := shell(ts, real)
			if other {
				command = as
			}
			cli.Record(&record, command, status, shown(out))
		case '&':
			parts := strings.Split(command, " => ")
			pattern, real, _ := strings.Cut(parts[0], " & ")
			out, status := meanwhile(ts, pattern, real)
			cli.Record(&record, parts[1], status, strings.NewReplacer(parts[2:]...).Replace(shown(out)))
		default:
			ts.Fatalf("lessons.steps: %s", line)
		}
	}
	ts.Logf("%s", record.String())
	if os.Getenv("LANTERN_LESSONS") == "write" {
		ts.Check(os.WriteFile("lessons/lessons.txt", []byte(record.String()), 0o644))
		return
	}
	have, want := cli.Lessons(record.String()), cli.Lessons("")
	for command, h := range have {
		w, known := want[command]
		switch {
		case !known:
			ts.Fatalf("what %q answers is not shown: make lessons", command)
		case h.Status != w.Status || form(h.Answer) != form(w.Answer):
			ts.Fatalf("%q ends with %d and answers\n%s\nand is shown with %d and\n%s\nmake lessons", command, h.Status, h.Answer, w.Status, w.Answer)
		}
	}
	if len(have) != len(want) {
		ts.Fatalf("%d answers are shown, and there are %d: make lessons", len(want), len(have))
	}
}

// shell runs a command line, in another folder where it says so, and returns the command as
// people type it.
func shell(ts *testscript.TestScript, line string) (command, out string, status int) {
	dir := ts.MkAbs(".")
	if of, is := strings.CutPrefix(line, "in "); is {
		sub, rest, _ := strings.Cut(of, ": ")
		dir, line = filepath.Join(dir, sub), rest
	}
	cmd := exec.Command("bash", "-c", line)
	cmd.Dir = dir
	cmd.Env = append(environ(ts), "COLUMNS=110", "LANTERN_SETTINGS="+ts.MkAbs(".lantern.yaml"))
	text, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); err != nil && !exited { //nolint:errorlint // Run gives it bare
		ts.Fatalf("%s: %v", line, err)
	}
	return line, string(text), cmd.ProcessState.ExitCode()
}

// meanwhile runs a command that goes on until it is ended, and ends it as Ctrl-C does when it has
// said what is waited for.
func meanwhile(ts *testscript.TestScript, pattern, line string) (out string, status int) {
	cmd := exec.Command("bash", "-c", "exec "+line)
	cmd.Dir = ts.MkAbs(".")
	cmd.Env = append(environ(ts), "COLUMNS=110")
	var text said
	cmd.Stdout, cmd.Stderr = &text, &text
	ts.Check(cmd.Start())
	defer cmd.Process.Kill()
	for end := time.Now().Add(time.Minute); !strings.Contains(text.String(), pattern); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			ts.Fatalf("%s: it says no %q: %s", line, pattern, text.String())
		}
	}
	ts.Check(cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait() // how it ended is its status
	return text.String(), cmd.ProcessState.ExitCode()
}

// said is what a program has said so far.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(b)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

var (
	secret = regexp.MustCompile(`[A-Za-z0-9+/]{43}=|\b[A-Za-z0-9_-]{40,}\b`) // 32 bytes in base64, or a token
	folder = regexp.MustCompile(`\S*/script-[a-z]+`)
)

// shown is the beginning of an answer, without what is secret or this machine's own.
func shown(out string) string {
	out = addresses.ReplaceAllString(out, "127.0.0.1:7801")
	out = folder.ReplaceAllString(out, ".")
	out = secret.ReplaceAllStringFunc(out, func(word string) string {
		if strings.Trim(word, "0123456789ABCDEFabcdef") == "" {
			return word // a fingerprint, or a digest
		}
		if strings.HasSuffix(word, "=") {
			return "…="
		}
		return "…"
	})
	lines := strings.Split(strings.TrimRight(out, "\n"), "\n")
	if more := len(lines) - mostShown; more > 1 {
		lines = append(lines[:mostShown], fmt.Sprintf("… %d more lines", more))
	}
	return strings.Join(lines, "\n")
}

var (
	numbers = regexp.MustCompile(`[0-9A-Fa-f]*[0-9][0-9A-Fa-f]*`)
	units   = regexp.MustCompile(`\b(s|ms|min|h|d|days?|hours?|seconds?|minutes?|now|ago|just)\b`)
	months  = regexp.MustCompile(`\b(Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]*\b`)
)

// form is what stays of the first line of an answer from run to run.
func form(answer string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(answer), "\n")
	for _, re := range []*regexp.Regexp{months, numbers, units} {
		first = re.ReplaceAllString(first, "")
	}
	return strings.Join(strings.Fields(first), " ")
}
