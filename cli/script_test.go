package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/rogpeppe/go-internal/testscript"

	"patientlantern.example/lantern/cli"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"lantern": func() { os.Exit(cli.Main(os.Args[1:])) },
	})
}

// agentBinary builds the agent as it is shipped, for the demo.
func agentBinary(t *testing.T) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "lantern-agent")
	cmd := exec.Command("go", "build", "-o", name, "patientlantern.example/lantern/cmd/lantern-agent")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("building the agent: %v\n%s", err, out)
	}
	return name
}

func TestScripts(t *testing.T) {
	agent := agentBinary(t)
	repo, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	testscript.Run(t, testscript.Params{
		Dir:                 "testdata/script",
		RequireExplicitExec: true,
		RequireUniqueNames:  true,
		Setup: func(e *testscript.Env) error {
			e.Setenv("AGENT", agent)
			e.Setenv("REPO", repo)
			e.Setenv("XDG_CONFIG_HOME", filepath.Join(e.WorkDir, ".config"))
			e.Setenv("NO_COLOR", "1")
			e.Setenv("COLUMNS", "140")
			e.Setenv("GOGC", os.Getenv("GOGC"))
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"until":   until,
			"status":  status,
			"edit":    edit,
			"same":    same,
			"fault":   fault,
			"signs":   signs,
			"fits":    fits,
			"tour":    tour,
			"lessons": lessons,
		},
	})
}

// until PATTERN COMMAND… runs a command until its output matches.
func until(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: until PATTERN COMMAND…")
	}
	re := regexp.MustCompile(args[0])
	end := time.Now().Add(30 * time.Second)
	for {
		cmd := exec.Command(args[1], args[2:]...)
		cmd.Dir = ts.Getenv("WORK")
		cmd.Path = lookPath(ts, args[1])
		cmd.Env = environ(ts)
		out, _ := cmd.CombinedOutput() // what counts is what it says
		if re.Match(out) {
			return
		}
		if time.Now().After(end) {
			ts.Fatalf("%q did not come; the last was:\n%s", args[0], out)
		}
		time.Sleep(250 * time.Millisecond)
	}
}

// mayBeNo are steps of the tour of which the answer is no: a gate that holds, what is only
// shown, findings, nothing that is expected.
var mayBeNo = regexp.MustCompile(`^lantern (rollout begin|rollout back-out|host accept|drift|policy compare|policy test|heal|repository probe)`)

// tour @FILE runs every command of the README's tour as it stands there, with the stand-ins of
// vendors at the address that stands in the file.
func tour(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 1 {
		ts.Fatalf("usage: tour @FILE")
	}
	text, err := os.ReadFile("../README.md")
	ts.Check(err)
	if name, is := strings.CutPrefix(args[0], "@"); is {
		args[0] = strings.TrimSpace(ts.ReadFile(name))
	}
	_, text, _ = bytes.Cut(text, []byte("\n## A tour\n"))
	text, _, _ = bytes.Cut(text, []byte("\n## More\n"))
	steps := 0
	for _, m := range regexp.MustCompile(`(?m)^    (\S.*)$`).FindAllSubmatch(text, -1) {
		line, _, _ := strings.Cut(string(m[1]), "  # ")
		line = strings.ReplaceAll(strings.TrimSpace(line), "127.0.0.1:7801", args[0])
		line = strings.ReplaceAll(line, "demo/policy", "demo-state/policy") // as the demo wrote it, with its addresses
		steps++
		cmd := exec.Command("sh", "-c", line)
		cmd.Dir, cmd.Env = ts.MkAbs("."), environ(ts)
		out, err := cmd.CombinedOutput()
		ts.Logf("%s\n%s", line, out)
		if err != nil && !(cmd.ProcessState.ExitCode() == cli.ExitNo && mayBeNo.MatchString(line)) {
			ts.Fatalf("README: %s: %v", line, err)
		}
	}
	if steps < 25 {
		ts.Fatalf("the tour of the README has %d steps", steps)
	}
}

// fits COMMAND… runs lantern with --format json, and holds what it prints against the schema that
// lantern schema prints for the command.
func fits(ts *testscript.TestScript, neg bool, args []string) {
	words := slices.IndexFunc(args, func(w string) bool { return w == "--" })
	if neg || words < 0 {
		ts.Fatalf("usage: fits COMMAND… -- ARGUMENT…")
	}
	command := strings.Join(args[:words], " ")
	schema, registry, known := cli.Answer(command)
	if !known {
		ts.Fatalf("lantern schema knows no %q", command)
	}
	cmd := exec.Command("lantern", append(append(slices.Clone(args[:words]), args[words+1:]...), "--format", "json")...)
	cmd.Dir, cmd.Path, cmd.Env = ts.MkAbs("."), lookPath(ts, "lantern"), environ(ts)
	text, _ := cmd.Output() // what is only shown ends with 1
	var v any
	if err := json.Unmarshal(text, &v); err != nil {
		ts.Fatalf("lantern %s prints no JSON: %v: %s", command, err, text)
	}
	if bytes.Contains(text, []byte("0001-01-01")) {
		ts.Fatalf("lantern %s tells of a moment that never was: %s", command, text)
	}
	var res huma.ValidateResult
	huma.Validate(registry, schema, huma.NewPathBuffer(nil, 0), huma.ModeReadFromServer, v, &res)
	for _, err := range res.Errors {
		ts.Fatalf("lantern %s does not fit its schema: %v", command, err)
	}
}

// status N COMMAND… runs a command and wants that exit status.
func status(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: status N COMMAND…")
	}
	cmd := exec.Command(args[1], args[2:]...)
	cmd.Dir = ts.MkAbs(".")
	cmd.Path = lookPath(ts, args[1])
	cmd.Env = environ(ts)
	out, err := cmd.CombinedOutput()
	ts.Logf("%s", out)
	got := 0
	if ee, ok := err.(*exec.ExitError); ok { //nolint:errorlint // Run gives it bare
		got = ee.ExitCode()
	} else if err != nil {
		ts.Fatalf("%v", err)
	}
	if fmt.Sprint(got) != args[0] {
		ts.Fatalf("exit status %d, want %s", got, args[0])
	}
	ts.Check(os.WriteFile(ts.MkAbs("said"), out, 0o644))
}

// edit FILE OLD NEW replaces text in a file.
func edit(ts *testscript.TestScript, neg bool, args []string) {
	text := ts.ReadFile(args[0])
	if neg || len(args) != 3 || !strings.Contains(text, args[1]) {
		ts.Fatalf("edit: %s does not hold %q", args[0], args[1])
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.Replace(text, args[1], args[2], 1)), 0o644))
}

var upstream = regexp.MustCompile(`http://127\.0\.0\.1:[0-9]+`)

// fault VENDOR [FAULT] gives a vendor of the demo a fault, or takes it away.
func fault(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) == 0 || len(args) > 2 {
		ts.Fatalf("usage: fault VENDOR [FAULT]")
	}
	tell(ts, "fault?vendor="+args[0]+"&fault="+strings.Join(args[1:], ""))
}

// signs VENDOR KEY has a vendor of the demo sign with another key.
func signs(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: signs VENDOR KEY")
	}
	tell(ts, "sign?vendor="+args[0]+"&key="+args[1])
}

// tell tells the vendors of the demo something.
func tell(ts *testscript.TestScript, what string) {
	at := upstream.FindString(ts.ReadFile("demo-hosts/gw-01/etc/apt/sources.list"))
	resp, err := http.Post(at+"/-/"+what, "", nil)
	ts.Check(err)
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusNoContent {
		ts.Fatalf("%s: %s", what, resp.Status)
	}
}

// same FILE FILE wants two files to be equal to the byte.
func same(ts *testscript.TestScript, neg bool, args []string) {
	if equal := ts.ReadFile(args[0]) == ts.ReadFile(args[1]); equal == neg {
		ts.Fatalf("%s and %s: equal is %v", args[0], args[1], equal)
	}
}

func lookPath(ts *testscript.TestScript, name string) string {
	for _, dir := range filepath.SplitList(ts.Getenv("PATH")) {
		if p := filepath.Join(dir, name); exists(p) {
			return p
		}
	}
	ts.Fatalf("%s is not in the path", name)
	return ""
}

func exists(p string) bool { _, err := os.Stat(p); return err == nil }

func environ(ts *testscript.TestScript) []string {
	var out []string
	for _, k := range []string{"PATH", "HOME", "WORK", "NO_COLOR", "COLUMNS", "XDG_CONFIG_HOME", "AGENT", "LANTERN_SERVICE", "LANTERN_TOKEN", "TMPDIR"} {
		if v := ts.Getenv(k); v != "" {
			out = append(out, k+"="+v)
		}
	}
	return out
}
