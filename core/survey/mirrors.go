package survey

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// mirrors keeps the lists of mirrors on this host that sources name.
func (r *reader) mirrors() {
	r.lists, r.called = map[string]bool{}, map[string]bool{}
	for i := range r.Survey.Sources {
		for _, name := range r.Survey.Sources[i].MirrorFiles() {
			if _, read := r.Texts[name]; read {
				r.lists[name] = true
				continue
			}
			text, info, err := r.Result.root.ReadTextInfo(name)
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			r.Texts[name], r.Modes[name], r.lists[name], r.called[name] = text, info.Mode().Perm(), true, true
			if n := source.Strangers(text); len(r.salt()) == 0 && n > 0 { // masked, other lines may be strangers
				r.unread(r.Survey.Sources[i].Family, name, fmt.Sprintf(
					"%d of its lines name no mirror and stay on the host, and without /etc/machine-id nobody is told when they change", n))
			}
		}
	}
}

// salt is what makes digests of lines that stay on the host tell nothing to whoever does not have the host: the
// identity of the machine, which is read by everybody there and told to nobody else. None where the machine has none.
func (r *reader) salt() []byte {
	if r.secret == nil {
		r.secret = []byte{}
		for _, name := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
			if text, err := r.Result.root.ReadFile(name); err == nil && len(bytes.TrimSpace(text)) >= 16 {
				r.secret = bytes.TrimSpace(text)
				break
			}
		}
	}
	return r.secret
}

// onlyMirrors hides the lines of a text that a list of mirrors does not have: what a source calls one may be any file
// on the host. Another digest says that such a line changed: dnf takes no notice of most, and apt takes one without a
// scheme for the name of a program.
func onlyMirrors(text []byte, name string, salt []byte) []byte {
	if source.Strangers(text) == 0 {
		return text
	}
	var out []byte
	for line := range bytes.Lines(text) {
		switch word := bytes.TrimSpace(line); {
		case len(word) == 0 || source.IsMirror(string(word)):
			out = append(out, line...)
		case word[0] == '#':
			out = append(out, "# "+family.Hidden+"\n"...)
		case len(salt) == 0:
			out = append(out, family.Hidden+"\n"...)
		default:
			out = append(out, hidden(salt, name, word)+"\n"...)
		}
	}
	return out
}

// hidden stands for a text that stays on the host: another one has another digest.
func hidden(salt []byte, name string, text []byte) string {
	mac := hmac.New(sha256.New, salt)
	fmt.Fprintf(mac, "%s\x00%s", name, text)
	return fmt.Sprintf("%s %x", family.Hidden, mac.Sum(nil)[:8])
}
