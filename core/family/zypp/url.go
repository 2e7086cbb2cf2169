package zypp

import (
	"errors"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// address is a URL as libzypp holds it: parts as written, scheme and host in
// lower case, parameters of the path left out.
type address struct {
	scheme, user, password, host, port, path, params, query, fragment string

	login, secret bool // a user, a password was written
	slashes       bool // is printed with // though there is no host
}

// Schemes that need a host, and those that need a path and take no host.
var (
	remote  = []string{"http", "https", "ftp", "tftp", "sftp", "nfs", "nfs4", "smb", "cifs"}
	local   = []string{"dir", "hd", "cd", "dvd", "iso", "plugin", "mailto", "urn"}
	slashed = []string{"ftp", "tftp", "sftp"} // whose paths may begin at the root of the server
)

// parse reads a URL. Its errors are those for which zypper refuses to work.
func parse(text string) (address, error) {
	var u address
	rest := text
	if i := strings.IndexAny(rest, ":/?#"); i > 0 && rest[i] == ':' {
		u.scheme, rest = strings.ToLower(rest[:i]), rest[i+1:]
	}
	if i := strings.IndexByte(rest, '#'); i >= 0 {
		rest, u.fragment = rest[:i], rest[i:]
	}
	if i := strings.IndexByte(rest, '?'); i >= 0 {
		rest, u.query = rest[:i], rest[i:]
	}
	authority := ""
	if after, ok := strings.CutPrefix(rest, "//"); ok {
		authority, rest = after, ""
		if i := strings.IndexByte(after, '/'); i >= 0 {
			authority, rest = after[:i], after[i:]
		}
	}
	u.path = rest
	if u.scheme == "" {
		if !strings.HasPrefix(u.path, "/") {
			return u, errors.New("it has no scheme")
		}
		u.scheme, u.slashes = "file", true
	}
	if !validScheme(u.scheme) {
		return u, errors.New("its scheme is not valid")
	}
	for _, part := range []*string{&u.query, &u.fragment} { // a lone sign stays and is printed twice
		if len(*part) > 1 {
			*part = (*part)[1:]
		}
	}
	if err := u.authority(authority); err != nil {
		return u, err
	}
	path, params, _ := strings.Cut(u.path, ";")
	switch {
	case !validText(u.path, `"%<>[]^`+"`|"):
		return u, errors.New("its path holds a character that must be written as %XX")
	case !validText(u.query, `"%<>[]^`+"`|"):
		return u, errors.New("its query holds a character that must be written as %XX")
	case !validText(u.fragment, `"#%<>[]^`+"`|"):
		return u, errors.New("its fragment is not valid")
	}
	u.path, u.params = path, params
	return u, u.fits()
}

func validScheme(s string) bool {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || strings.IndexByte(`+-.\`, c) >= 0)) {
			return false
		}
	}
	return s != ""
}

// validText reports whether all characters may stand as they are, or as %XX.
func validText(s, bad string) bool {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c == '%' {
			if i+2 >= len(s) || !hex(s[i+1]) || !hex(s[i+2]) {
				return false
			}
			i += 2
		} else if c <= ' ' || c >= 0x7f || strings.IndexByte(bad, c) >= 0 {
			return false
		}
	}
	return true
}

func hex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

func (u *address) authority(text string) error {
	if text == "" {
		return nil
	}
	if i := strings.IndexByte(text, '@'); i >= 0 {
		u.user, u.password, u.secret = strings.Cut(text[:i], ":")
		text = text[i+1:]
		u.login = u.user != ""
		const bad = "\"%<>@[]^`{|}"
		if !validText(u.user, bad) || !validText(u.password, bad+"/?#") {
			return errors.New("its login is not valid")
		}
	}
	u.host = text
	if end := strings.IndexByte(text, ']'); strings.HasPrefix(text, "[") && end > 0 {
		u.host, text = text[:end+1], text[end+1:]
		if text != "" && text[0] != ':' {
			return errors.New("its host is not valid")
		}
		u.port = strings.TrimPrefix(text, ":")
	} else if i := strings.IndexByte(text, ':'); i >= 0 {
		u.host, u.port = text[:i], text[i+1:]
	}
	if n, err := strconv.ParseUint(u.port, 10, 16); u.port != "" && (err != nil || n == 0 || u.port[0] == '0') {
		return errors.New("its port is not valid")
	}
	if plain, err := url.PathUnescape(u.host); err == nil && !strings.HasPrefix(plain, "[") {
		u.host = plain
	}
	if u.host != "" && !validHost(u.host) {
		return errors.New("its host is not valid")
	}
	if u.host = lower(u.host); strings.HasPrefix(u.host, "[") {
		u.host = strings.ToUpper(u.host)
	}
	return nil
}

func lower(host string) string {
	var out strings.Builder
	for _, c := range []byte(host) {
		switch {
		case c >= 'A' && c <= 'Z':
			out.WriteByte(c + 'a' - 'A')
		case c == '\\' || c >= 0x80:
			out.WriteString("%" + strings.ToUpper(strconv.FormatUint(uint64(c), 16)))
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}

func validHost(host string) bool {
	if inner, ok := strings.CutPrefix(host, "["); ok {
		a, err := netip.ParseAddr(strings.TrimSuffix(inner, "]"))
		return err == nil && a.Is6() && a.Zone() == ""
	}
	for label := range strings.FieldsFuncSeq(strings.NewReplacer("-", ".").Replace(host)+".x", func(c rune) bool { return c == '.' }) {
		for _, c := range label {
			if !unicode.IsLetter(c) && !unicode.IsNumber(c) && !strings.ContainsRune(`$_{}\`, c) {
				return false
			}
		}
	}
	plain := strings.ReplaceAll(host, "-", ".")
	return !strings.Contains(plain, "..") && plain[0] != '.' && plain[len(plain)-1] != '.'
}

// fits reports whether the scheme takes the parts.
func (u *address) fits() error {
	switch {
	case slices.Contains(remote, u.scheme):
		if u.host == "" {
			return errors.New("its scheme needs a host")
		}
	case slices.Contains(local, u.scheme):
		if u.host != "" || u.login || u.secret || u.port != "" {
			return errors.New("its scheme takes no host")
		}
		if u.path == "" {
			return errors.New("its scheme needs a path")
		}
	case u.scheme == "file" && !u.slashes:
		if u.login || u.secret || u.port != "" {
			return errors.New("its scheme takes no login and no port")
		}
		if u.path == "" {
			return errors.New("its scheme needs a path")
		}
	default:
		if u.scheme != "file" {
			u.slashes = true
		}
	}
	return nil
}

// identity is the same for URLs that libzypp takes for one.
func (u *address) identity() string {
	return u.print(true, false) + "\n" + u.password + "\n" + u.params
}

// print writes the URL; masked adds the sign for a password that is there.
func (u *address) print(user, masked bool) string {
	var out strings.Builder
	out.WriteString(u.scheme + ":")
	if u.host != "" || u.slashes {
		out.WriteString("//")
		if user && u.login && u.host != "" {
			out.WriteString(u.user)
			if masked && u.password != "" {
				out.WriteString(":***")
			}
			out.WriteString("@")
		}
		out.WriteString(u.host)
		if u.port != "" && u.host != "" {
			out.WriteString(":" + u.port)
		}
		path := u.path
		if !strings.HasPrefix(path, "/") {
			path = "/" + path
		}
		if (u.host == "" || slices.Contains(slashed, u.scheme)) && strings.HasPrefix(path, "//") {
			path = "/%2F" + path[2:]
		}
		out.WriteString(path)
	} else if strings.HasPrefix(u.path, "//") {
		out.WriteString("/%2F" + u.path[2:])
	} else {
		out.WriteString(u.path)
	}
	if u.query != "" {
		out.WriteString("?" + u.query)
	}
	if u.fragment != "" {
		out.WriteString("#" + u.fragment)
	}
	return out.String()
}

// through sends the URL through a proxy, as a repository's own proxy setting does.
func (u *address) through(proxy string) {
	host, port := proxy, ""
	if i := strings.LastIndexByte(proxy, ':'); i >= 0 && i+1 < len(proxy) && strings.Trim(proxy[i+1:], "0123456789") == "" {
		host, port = proxy[:i], proxy[i+1:]
	}
	params := paramsOf(u.query)
	params["proxy"], params["proxyport"] = "="+escape(host), ""
	if port != "" {
		params["proxyport"] = "=" + port
	}
	u.query = params.print()
}

// params are those of a query: name → value with its sign. libzypp holds them so: of two with one name the last counts.
type params map[string]string

func paramsOf(query string) params {
	out := params{}
	if query == "" {
		return out
	}
	for part := range strings.SplitSeq(query, "&") {
		key, value, ok := strings.Cut(part, "=")
		if ok {
			value = "=" + value
		}
		out[key] = value
	}
	return out
}

// print is the query again, its names in order.
func (p params) print() string {
	keys := make([]string, 0, len(p))
	for k := range p {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for i, k := range keys {
		keys[i] = k + p[k]
	}
	return strings.Join(keys, "&")
}

func escape(s string) string {
	var out strings.Builder
	for _, c := range []byte(s) {
		if c <= ' ' || c >= 0x7f || strings.IndexByte("\"%<>[]^`|&#=+", c) >= 0 {
			out.WriteString("%" + strings.ToUpper(strconv.FormatUint(0x100|uint64(c), 16)[1:]))
		} else {
			out.WriteByte(c)
		}
	}
	return out.String()
}

// effective puts the variables of a URL in and reads the result again; login and
// password are not looked at.
func (u *address) effective(expand func(string) string) (address, error) {
	plain := *u
	plain.login, plain.secret = false, false
	out, err := parse(expand(plain.print(false, false)))
	if err != nil {
		return out, err
	}
	if out.scheme == "file" && u.login {
		return out, errors.New("its scheme takes no login")
	}
	out.user, out.password, out.login, out.secret, out.slashes = u.user, u.password, u.login, u.secret, u.slashes
	return out, nil
}
