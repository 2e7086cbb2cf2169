package choice

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing/fstest"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Weighs is the same for hosts that weigh what is offered alike, whomever they believe.
func (h *Host) Weighs() string {
	uses := make([]any, len(h.Uses))
	for i := range h.Uses {
		u := h.Uses[i]
		s := &h.Survey.Sources[u.At]
		uses[i] = []any{u.Place, u.ID, s.Priority, s.Position, s.Options}
	}
	b, err := json.Marshal([]any{uses, h.Survey.Traits, h.Survey.Pins, h.Survey.Holds, h.Survey.Settings, h.Survey.Deciding})
	if err != nil { // of texts and numbers
		return ""
	}
	return source.Digest(b)
}

// After is what would decide on a host once its files stand as edited says: path → text, nil for
// a file that goes. The files are read again as they would be read on the host. ok is false
// where reading them as they stand today does not come to what the survey says, so that nothing
// can be told: what else the host has is not known here.
func After(s *source.Survey, texts, edited map[string][]byte) (after *Host, ok bool) {
	today := reread(s, texts, nil)
	if today == nil || today.Weighs() != Of(s).Weighs() {
		return nil, false
	}
	return reread(s, texts, edited), true
}

// reread reads files as they would stand on a host of such traits.
func reread(s *source.Survey, texts, edited map[string][]byte) *Host {
	files := fstest.MapFS{}
	put := func(name string, text []byte) {
		files[strings.TrimPrefix(name, "/")] = &fstest.MapFile{Data: keyless(text), Mode: 0o644}
	}
	for name, text := range texts {
		put(name, text)
	}
	for name, text := range edited {
		if text == nil {
			delete(files, strings.TrimPrefix(name, "/"))
		} else {
			put(name, text)
		}
	}
	root := rootfs.New(files)
	t := s.Traits
	host := family.Host{Arch: t.Arch, Architectures: t.Architectures, Release: releaseOf(s), OSRelease: t.OS.Version, Level: t.CPU.Level}
	out := &source.Survey{Traits: t}
	add := func(r family.Reading) {
		out.Sources = append(out.Sources, r.Sources...)
		out.Pins = append(out.Pins, r.Pins...)
		out.Holds = append(out.Holds, r.Holds...)
		out.Settings = append(out.Settings, r.Settings...)
	}
	for r := range families.Readings(root, host) {
		add(r)
	}
	out.Holds = holds(out.Holds, s.Holds)
	out.Deciding = s.Deciding // filters of flatpak stand in no file of a policy
	return Of(out)
}

// keyless is a text without the keys in it: they decide who is believed and not what is taken,
// and reading them takes longer than all the rest.
func keyless(text []byte) []byte {
	if bytes.IndexByte(text, 0) >= 0 {
		return nil
	}
	if !bytes.Contains(text, []byte(beginKey)) {
		return text
	}
	var out []byte
	inside := false
	for line := range bytes.Lines(text) {
		inside = inside || bytes.Contains(line, []byte(beginKey))
		if !inside {
			out = append(out, line...)
		}
		inside = inside && !bytes.Contains(line, []byte("-----END PGP"))
	}
	return out
}

const beginKey = "-----BEGIN PGP"

// holds are those that stand in files, as they are read again, and those of dpkg's status and of dnf 5's
// locks, which no edit touches.
func holds(read, was []source.Hold) []source.Hold {
	for _, k := range was {
		if k.Family == deb.Family || ofFive(k) {
			read = append(read, k)
		}
	}
	return read
}

// releaseOf is what stands for $releasever on a host, as far as its own addresses tell.
func releaseOf(s *source.Survey) string {
	for i := range s.Sources {
		x := &s.Sources[i]
		for j := range min(len(x.URLs), len(x.EffURLs)) {
			for _, name := range []string{"$releasever", "${releasever}"} {
				before, after, ok := strings.Cut(x.URLs[j], name)
				rest, fits := strings.CutPrefix(x.EffURLs[j], before)
				if !ok || !fits || strings.Contains(before, "$") || after != "" && after[0] == '_' {
					continue
				}
				if end := strings.IndexAny(rest, "/?"); end >= 0 {
					rest = rest[:end]
				}
				if rest != "" {
					return rest
				}
			}
		}
	}
	return ""
}
