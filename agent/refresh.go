package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os/exec"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
)

// refreshTime bounds one refresh.
const refreshTime = 10 * time.Minute

func haveApt() bool {
	_, err := exec.LookPath("apt-get")
	return err == nil
}

type aptOutput struct{ text string }

// errors returns apt's complaints in one line.
func (o aptOutput) errors() string {
	var out []string
	for line := range strings.SplitSeq(o.text, "\n") {
		if rest, ok := strings.CutPrefix(line, "E: "); ok && rest != "The list of sources could not be read." {
			out = append(out, rest)
		}
	}
	if len(out) == 0 {
		return oneLine(o.text)
	}
	return strings.Join(out, "; ")
}

// runApt runs apt-get with a clean environment. For another root than / apt is
// led there by a configuration file, which it reads before that root's own
// apt.conf: the option -o Dir alone would leave the machine's in force.
func (h *Host) runApt(ctx context.Context, limit time.Duration, at aptConf, args ...string) (aptOutput, error) {
	text, err := h.runAptTool(ctx, limit, at, "apt-get", args...)
	return aptOutput{text}, err
}

// runAptCache asks apt-cache.
func (h *Host) runAptCache(ctx context.Context, args ...string) (string, error) {
	return h.runAptTool(ctx, time.Minute, aptConf{}, "apt-cache", args...)
}

// aptConf is where apt's configuration is read from: a folder that stands for apt.conf.d and a file that stands for apt.conf, each
// empty where the host's own is.
type aptConf struct{ parts, main string }

// runAptTool runs one of apt's programs by a configuration.
func (h *Host) runAptTool(ctx context.Context, limit time.Duration, at aptConf, tool string, args ...string) (string, error) {
	var env []string
	var conf []byte
	if h.Root != "/" {
		conf = fmt.Appendf(conf, "Dir %q;\n", h.Root)
	}
	if at.parts != "" {
		conf = fmt.Appendf(conf, "Dir::Etc::parts %q;\n", at.parts)
	}
	if at.main != "" {
		conf = fmt.Appendf(conf, "Dir::Etc::main %q;\n", at.main)
	}
	if conf != nil {
		if err := h.save("apt.conf", conf); err != nil {
			return "", fmt.Errorf("apt cannot be led to the root: %w", err)
		}
		env = append(env, "APT_CONFIG="+h.statePath("apt.conf"))
	}
	return h.run(ctx, limit, env, tool, args...)
}

// refreshWithApt runs apt-get update and says how it went for each source.
func (h *Host) refreshWithApt(ctx context.Context, q asked) ([]api.SourceOutcome, error) {
	args, done, err := h.led(q)
	defer done()
	if err != nil {
		return nil, err
	}
	parts, err := h.partsOf(q)
	if err != nil {
		return nil, err
	}
	defer removeAll(h.statePath(partsDir))
	args = append(
		args,
		"-o",
		"APT::Update::Error-Mode=any",
		"-o",
		"Acquire::Retries=1",
		"-o",
		"Acquire::http::Timeout=30",
		"-o",
		"Acquire::https::Timeout=30",
	)
	if h.Root != "/" {
		for _, d := range []string{"/var/lib/apt/lists/partial", "/var/cache/apt/archives/partial"} {
			if err := h.dir.MkdirAll(d[1:], 0o755); err != nil {
				return nil, fmt.Errorf("%s cannot be made: %w", d, err)
			}
		}
	}
	text, err := h.patiently(ctx, func() (string, error) {
		out, err := h.runApt(ctx, q.limit(), aptConf{parts: parts}, append(args, "update")...)
		return out.text, err
	})
	out := aptOutput{text}
	var slow tooSlow
	if errors.As(err, &slow) || ctx.Err() != nil {
		return nil, err
	}
	outcomes, named := readUpdate(out.text, &q.survey.Survey, h.Root)
	if err != nil && !named {
		return outcomes, fmt.Errorf("apt-get update: %s", out.errors())
	}
	return outcomes, nil
}

var (
	failedLine = pattern.Lazy(`^Err:\d+ (\S+) (\S+)`)
	// apt says of old and of future metadata without an Err line.
	staleLine = pattern.Lazy(`^E: (Release file for (\S+)/dists/(\S+)/(?:In)?Release is (?:expired|not valid yet).*)`)
)

// readUpdate reads apt-get's account of an update. named is true where it says
// of which source something failed. What cannot be led back to a source of the host is
// an outcome of its own: it is never taken for a success.
func readUpdate(text string, now *source.Survey, root string) (out []api.SourceOutcome, named bool) {
	failed, seen := failures(text)
	known := map[string]bool{}
	for i := range now.Sources {
		s := &now.Sources[i]
		if !s.Enabled || s.Family != deb.Family {
			continue
		}
		for _, u := range s.EffURLs {
			// Of a list apt names the mirror that it has asked; below a root it is shown where things really stand.
			names := append([]string{u, rooted(u, root)}, source.ReachedBy(s.Family, u, now.MirrorLines)...)
			for _, suite := range s.EffSuites {
				o := api.SourceOutcome{File: s.File, Line: s.Line, URL: u, Suite: suite, OK: true}
				key, _, _ := strings.Cut(suite, "/")
				for _, shown := range names {
					at := strings.TrimSuffix(shown, "/") + " " + key
					known[at] = true
					if msg, bad := failed[at]; bad {
						o.OK, o.Message = false, msg
					}
				}
				out = append(out, o)
			}
		}
	}
	for _, at := range seen {
		if !known[at] {
			u, suite, _ := strings.Cut(at, " ")
			out = append(out, api.SourceOutcome{URL: u, Suite: suite, Message: failed[at]})
		}
	}
	return out, len(seen) > 0
}

// failures lists what apt-get says it could not fetch, by URL and suite, in order.
func failures(text string) (failed map[string]string, seen []string) {
	failed = map[string]string{}
	note := func(at, msg string) {
		if _, before := failed[at]; !before {
			seen = append(seen, at)
		}
		failed[at] = msg
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if m := staleLine().FindStringSubmatch(line); m != nil {
			note(m[2]+" "+m[3], m[1])
			continue
		}
		m := failedLine().FindStringSubmatch(line)
		if m == nil {
			continue
		}
		msg := "apt-get could not fetch it"
		if i+1 < len(lines) && strings.HasPrefix(lines[i+1], "  ") {
			msg = strings.TrimSpace(lines[i+1])
		}
		suite, _, _ := strings.Cut(m[2], "/") // "stable/main" for an index
		note(strings.TrimSuffix(m[1], "/")+" "+suite, msg)
	}
	return failed, seen
}

// refreshAlone looks at the upstreams itself, where no apt is.
func (h *Host) refreshAlone(ctx context.Context, now *source.Survey, at time.Time) ([]api.SourceOutcome, error) {
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	net := fetch.New().Opener(ctx, fetch.Way{})
	open := func(url string) (io.ReadCloser, error) {
		dir, local := strings.CutPrefix(url, "file:")
		if !local {
			return net(url)
		}
		b, err := h.fs.ReadFile("/" + strings.TrimLeft(dir, "/"))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &upstream.Refused{Kind: cause.Missing, Why: "there is no such file"}
		}
		return io.NopCloser(bytes.NewReader(b)), err
	}
	h.offered = map[string][]string{}
	var out []api.SourceOutcome
	for i := range now.Sources {
		s := &now.Sources[i]
		if !s.Enabled || s.Family != deb.Family || len(s.Kinds) == 0 || s.Kinds[0] != "binary" {
			continue
		}
		keys, err := h.trusted(s, now)
		for _, u := range s.EffURLs {
			urls := source.ReachedBy(s.Family, u, now.MirrorLines)
			for _, suite := range s.EffSuites {
				o := api.SourceOutcome{File: s.File, Line: s.Line, URL: u, Suite: suite}
				checkErr := err
				n := 0
				if checkErr == nil {
					var found *upstream.Found
					found, checkErr = upstream.Look(&upstream.Source{
						Family: deb.Family, URLs: urls, Suite: suite, Components: s.Components, Archs: s.EffArchs, Keys: keys,
					}, open, at)
					if checkErr == nil {
						n = len(found.Packages)
						for _, p := range found.Packages {
							h.offered[u+" "+p.Name] = append(h.offered[u+" "+p.Name], p.Version)
						}
					}
				}
				if o.OK = checkErr == nil; o.OK {
					o.Message = fmt.Sprintf("%d packages", n)
				} else {
					o.Message = oneLine(checkErr.Error())
				}
				out = append(out, o)
			}
		}
	}
	return out, nil
}

// trusted gathers the keys that apt would check a source with; nil where apt
// checks nothing.
func (h *Host) trusted(s *source.Source, now *source.Survey) (openpgp.EntityList, error) {
	if s.Checks.Metadata == source.CheckOff {
		return nil, nil
	}
	keys := openpgp.EntityList{}
	add := func(data []byte) error {
		list, err := keyring.Certificates(data)
		keys = append(keys, list...)
		return err
	}
	for _, by := range s.SignedBy {
		switch {
		case strings.HasPrefix(by, "/"):
			data, err := h.fs.ReadText(by)
			if err != nil {
				return nil, fmt.Errorf("the key %s cannot be read: %w", by, err)
			}
			if err := add(data); err != nil {
				return nil, fmt.Errorf("the key %s cannot be read: %w", by, err)
			}
		case strings.HasPrefix(by, "embedded:"):
			text, err := h.fs.ReadText(s.File)
			if err != nil {
				return nil, err
			}
			if err := add(deb.EmbeddedKeys(text, s.Line)); err != nil {
				return nil, fmt.Errorf("the embedded key cannot be read: %w", err)
			}
		}
	}
	if len(s.SignedBy) > 0 && len(keys) > 0 {
		return keys, nil
	}
	for _, k := range now.Keys { // every key that is trusted for everything, or that a fingerprint names
		if !k.Good() || k.Scope != source.ScopeAny || len(s.SignedBy) > 0 && !strings.Contains(strings.Join(s.SignedBy, " "), k.Fingerprint) {
			continue
		}
		data, err := h.fs.ReadText(k.Where)
		if err == nil {
			_ = add(data) // what cannot be read is no key
		}
	}
	return keys, nil
}
