package policy

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/names"
)

// remote are the schemes whose URLs name a host, local those that may not.
var (
	remote = []string{
		"http",
		"https",
		"ftp",
		"ftps",
		"sftp",
		"scp",
		"ssh",
		"rsh",
		"rsync",
		"tftp",
		"nfs",
		"nfs4",
		"smb",
		"cifs",
		"mirror",
		"mirror+http",
		"mirror+https",
		"mirror+ftp",
		"tor",
		"tor+http",
		"tor+https",
		"tor+mirror+http",
		"tor+mirror+https",
		"s3",
		"gs",
		"oci+https",
		"oci+http",
	}
	local = []string{"file", "copy", "cdrom", "mirror+file", "mirror+copy", "dir", "hd", "iso", "cd", "dvd", "plugin", "store"}
)

// CheckURL reports what keeps a URL from leading anywhere. It must be filled in already.
func CheckURL(u string) error {
	scheme, rest, ok := strings.Cut(u, ":")
	if !ok {
		return fmt.Errorf("the url %q has no scheme", u)
	}
	scheme = strings.ToLower(scheme)
	if slices.Contains(local, scheme) {
		if strings.TrimLeft(rest, "/") == "" && scheme != "cdrom" && scheme != "cd" && scheme != "dvd" && scheme != "file" {
			return fmt.Errorf("the url %q names no place", u)
		}
		return nil
	}
	if !slices.Contains(remote, scheme) {
		near := names.Nearest(scheme, []string{"http", "https", "file", "cdrom"})
		if near != "" {
			near = fmt.Sprintf("; did you mean %s?", near)
		}
		return fmt.Errorf("the url %q has the scheme %q, which no package manager knows%s", u, scheme, near)
	}
	if !strings.HasPrefix(rest, "//") {
		return fmt.Errorf("the url %q lacks the two slashes behind its scheme", u)
	}
	authority := rest[2:]
	if i := strings.IndexAny(authority, "/?#"); i >= 0 {
		authority = authority[:i]
	}
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		authority = authority[at+1:]
	}
	host, port := authority, ""
	if i := strings.LastIndexByte(authority, ':'); i >= 0 && !strings.HasSuffix(authority, "]") {
		host, port = authority[:i], authority[i+1:]
		if n, err := strconv.ParseUint(port, 10, 32); err != nil || n == 0 || n > 65535 {
			return fmt.Errorf("the url %q has the port %q; a port is a number from 1 to 65535", u, port)
		}
	}
	if host == "" {
		return fmt.Errorf("the url %q names no host", u)
	}
	if _, err := url.Parse(scheme + "://" + authority + "/"); err != nil {
		var e *url.Error
		if errors.As(err, &e) {
			err = e.Err
		}
		return fmt.Errorf("the url %q cannot be taken: %w", u, err)
	}
	return nil
}

// draft is a URL with everything that is filled in later written as a word, for checking;
// empty where even its beginning is filled in.
func draft(u string) string {
	var b strings.Builder
	for {
		i := strings.Index(u, "${")
		if i < 0 {
			break
		}
		end := strings.IndexByte(u[i:], '}')
		if end < 0 {
			break
		}
		if i == 0 && b.Len() == 0 {
			return ""
		}
		b.WriteString(u[:i])
		if strings.HasSuffix(u[:i], ":") && !strings.HasSuffix(u[:i], "//:") { // a port
			b.WriteString("1")
		} else {
			b.WriteString("x")
		}
		u = u[i+end+1:]
	}
	return b.String() + u
}

// checkURL checks a URL as far as it is known before it is filled in.
func (l *loader) checkURL(t Text) {
	d := draft(t.Value)
	if d == "" {
		return
	}
	if err := CheckURL(d); err != nil {
		message := strings.Replace(err.Error(), strconv.Quote(d), strconv.Quote(t.Value), 1)
		l.fail("value", t.Pos, message, "write it as https://HOST/PATH")
	}
}
