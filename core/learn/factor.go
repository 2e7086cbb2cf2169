package learn

import (
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/saved"
)

// fact is a value of a host that can stand in a URL.
type fact struct{ name, value string }

// facts lists them, the most telling first: a codename says more than a number.
func facts(h *saved.Snapshot) []fact {
	all := condition.Facts{Traits: &h.Traits}
	var out []fact
	for _, name := range []string{"os.codename", "arch", "os.major", "os.version"} {
		value, _ := all.Get(name)
		out = append(out, fact{name, value})
	}
	return slices.DeleteFunc(out, func(f fact) bool { return f.value == "" })
}

// tokens cuts a text into words and what parts them. Versions stay whole.
func tokens(text string) (out []string) {
	at := 0
	for i := 0; i < len(text); i++ {
		if strings.IndexByte("/-:?=&", text[i]) >= 0 {
			out = append(out, text[at:i], text[i:i+1])
			at = i + 1
		}
	}
	return append(out, text[at:])
}

// shape is a text with holes where hosts may differ: words with digits in them, and
// those that a fact of the host explains.
func shape(h *saved.Snapshot, text string) string {
	list := tokens(text)
	for i, t := range list {
		hole := strings.ContainsAny(t, "0123456789") && i > hostTokens(list)
		for _, f := range facts(h) {
			hole = hole || t == f.value
		}
		if hole {
			list[i] = "\x01"
		}
	}
	return strings.Join(list, "")
}

// hostTokens is how many tokens the scheme and the host of a URL take.
func hostTokens(list []string) int {
	slashes := 0
	for i, t := range list {
		if t == "/" {
			if slashes++; slashes == 3 {
				return i
			}
		}
	}
	return -1
}

// template is a text that is the same for several hosts once facts and settings are
// filled in.
type template struct {
	text     string
	settings map[string]map[int]string // setting → host → value
}

// factor finds the template of texts of one shape. hosts and texts go together.
func factor(all []saved.Snapshot, hosts []int, texts []string, setting string) template {
	cut := make([][]string, len(texts))
	for i, t := range texts {
		cut[i] = tokens(t)
	}
	out := template{settings: map[string]map[int]string{}}
	var text strings.Builder
	for n := range cut[0] {
		same := true
		for i := range cut {
			same = same && cut[i][n] == cut[0][n]
		}
		if same && !natural(all, hosts, cut[0][n]) {
			text.WriteString(literal(cut[0][n]))
			continue
		}
		if name := explains(all, hosts, cut, n); name != "" {
			text.WriteString("${" + name + "}")
			continue
		}
		if same {
			text.WriteString(literal(cut[0][n]))
			continue
		}
		values := map[int]string{}
		for i, h := range hosts {
			values[h] = cut[i][n]
		}
		name := setting
		for k, v := range out.settings { // the same values are the same setting
			if equalValues(v, values) {
				name = k
			}
		}
		if old, taken := out.settings[name]; taken && !equalValues(old, values) {
			name = setting + "-" + strconv.Itoa(1+len(out.settings))
		}
		out.settings[name] = values
		text.WriteString("${" + name + "}")
	}
	out.text = text.String()
	return out
}

// literal writes a text as the policy takes it where names in braces are filled in.
func literal(text string) string { return strings.ReplaceAll(text, "${", "$${") }

func literals(texts []string) []string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = literal(t)
	}
	return out
}

func equalValues(a, b map[int]string) bool {
	for k, v := range a {
		if b[k] != v {
			return false
		}
	}
	return len(a) == len(b)
}

// natural reports whether a word is better said as a fact though all hosts agree: a
// codename, or the architecture.
func natural(all []saved.Snapshot, hosts []int, word string) bool {
	for _, h := range hosts {
		t := &all[h].Traits
		if word != t.OS.Codename && word != t.Arch || word == "" {
			return false
		}
	}
	return true
}

// explains finds a fact that has, on each host, the value of the nth word.
func explains(all []saved.Snapshot, hosts []int, cut [][]string, n int) string {
	for _, f := range facts(&all[hosts[0]]) {
		ok := true
		for i, h := range hosts {
			value := ""
			for _, x := range facts(&all[h]) {
				if x.name == f.name {
					value = x.value
				}
			}
			ok = ok && value == cut[i][n]
		}
		if ok {
			return f.name
		}
	}
	return ""
}

// origin is who a URL belongs to: its host, or the first part of its path where the host
// is this machine.
func origin(raw string) string {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return raw
	}
	host := u.Hostname()
	if ip, err := netip.ParseAddr(host); err == nil && ip.IsLoopback() || host == "localhost" {
		first, _, _ := strings.Cut(strings.TrimPrefix(u.Path, "/"), "/")
		return first
	}
	return host
}

// commonBase is what several templates begin with, whole parts of a path, at least
// scheme and host; empty where there is nothing to gain.
func commonBase(texts []string) string {
	if len(texts) < 2 {
		return ""
	}
	out := texts[0]
	for _, t := range texts[1:] {
		n := 0
		for n < len(out) && n < len(t) && out[n] == t[n] {
			n++
		}
		out = out[:n]
	}
	if i := strings.Index(out, "${"); i >= 0 {
		out = out[:i]
	}
	out = out[:max(strings.LastIndexByte(out, '/'), 0)]
	if !strings.Contains(out, "://") || strings.HasSuffix(out, ":/") {
		return ""
	}
	return out
}
