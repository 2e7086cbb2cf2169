package deb

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
)

// MainConf is apt's main file of settings, read after those of apt.conf.d.
const MainConf = "/etc/apt/apt.conf"

// ProxyPath is where the policy says through what apt fetches. Names of digits come before it, so
// that it has the last word.
const ProxyPath = "/etc/apt/apt.conf.d/lantern-proxy.conf"

// ProxyFile tells apt what it fetches through, but for some hosts. apt.conf(5), apt-transport-http(1).
func ProxyFile(proxy string, direct []string) source.SheetFile {
	var b strings.Builder
	b.WriteString(family.Head)
	for _, scheme := range []string{"http", "https"} {
		fmt.Fprintf(&b, "Acquire::%s::Proxy \"%s\";\n", scheme, proxy)
		for _, host := range direct {
			fmt.Fprintf(&b, "Acquire::%s::Proxy::%s \"DIRECT\";\n", scheme, host)
		}
	}
	return source.SheetFile{Path: ProxyPath, Mode: "0644", Text: b.String()}
}

// proxyLine is the one kind of line, the head aside, that such a file may have: it names no program.
var proxyLine = pattern.Lazy(`^Acquire::https?::Proxy(::[A-Za-z0-9._:~\x{80}-\x{10FFFF}-]+)? "(DIRECT|https?://[A-Za-z0-9.:\[\]-]+)";$`)

// IsProxyFile reports whether a text says nothing to apt but what it fetches through.
func IsProxyFile(text string) bool {
	rest, ours := strings.CutPrefix(text, family.Head)
	for line := range strings.Lines(rest) {
		ours = ours && proxyLine().MatchString(strings.TrimSuffix(line, "\n"))
	}
	return ours
}

// ProxyOf is what a file that ProxyFile made tells: the proxy, and the servers that are asked without it.
func ProxyOf(text string) (proxy string, direct []string) {
	for line := range strings.Lines(text) {
		m := proxyLine().FindStringSubmatch(strings.TrimSuffix(line, "\n"))
		switch {
		case m == nil:
		case m[1] == "":
			proxy = m[2]
		case m[2] == "DIRECT" && !slices.Contains(direct, m[1][2:]):
			direct = append(direct, m[1][2:])
		}
	}
	return proxy, direct
}
