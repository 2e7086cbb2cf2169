package zypp

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// own are the parameters of a URL that libzypp takes for itself: they say how it asks, and no server sees them.
var own = []string{
	"cookies", "proxy", "proxyport", "proxyuser", "proxypass", "ssl_capath", "ssl_verify", "ssl_clientcert", "ssl_clientkey", "timeout",
	"auth", "username", "password", "mediahandler", "credentials", "head_requests",
}

// Asked is what servers are asked of a URL: without what libzypp takes for itself, and without a fragment.
func Asked(raw string) string {
	base, query, has := strings.Cut(raw, "?")
	if !has {
		base, _, _ = strings.Cut(raw, "#")
		return base
	}
	query, _, _ = strings.Cut(query, "#")
	params := params{}
	for name, value := range paramsOf(query) {
		if name = decoded(name); slices.Contains(own, name) {
			continue
		}
		if value = decoded(strings.TrimPrefix(value, "=")); value != "" {
			value = "=" + spelt(value)
		}
		params[spelt(name)] = value
	}
	if len(params) == 0 {
		return base
	}
	return base + "?" + params.print()
}

func decoded(s string) string {
	if plain, err := url.PathUnescape(s); err == nil {
		return plain
	}
	return s
}

// spelt is a name or a value as libzypp spells it in a query that it has taken apart.
func spelt(s string) string {
	var out strings.Builder
	for _, c := range []byte(s) {
		if c <= ' ' || c >= 0x7f || strings.IndexByte("\"#%&<=>[\\]^`{|}", c) >= 0 {
			fmt.Fprintf(&out, "%%%02X", c)
		} else {
			out.WriteByte(c)
		}
	}
	return out.String()
}
