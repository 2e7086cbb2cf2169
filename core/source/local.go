package source

import (
	"path"
	"strconv"
	"strings"
)

// LocalFile returns the file on the host that a reference to a key or to a list of mirrors leads to. What others
// call so is a path. To dnf and zypper it is a URL even where its scheme is not written, and is read as curl and libzypp read
// one: no matter how the scheme is spelled and of which host it is said to be, %65 is an e, and a question or a
// fragment is no part of the file's name.
func LocalFile(family, ref string) (name string, local bool) {
	scheme, rest, found := strings.Cut(ref, ":")
	scheme = strings.ToLower(scheme)
	switch {
	case strings.HasPrefix(ref, "/"):
		if family != FamilyRpm && family != FamilyZypp {
			return path.Clean(ref), true
		}
		rest = ref
	case !found || scheme != "file" && scheme != "dir": // of which zypper says both
		return "", false
	case strings.HasPrefix(rest, "//"):
		at := strings.IndexByte(rest[2:], '/')
		if at < 0 {
			return "", false
		}
		rest = rest[2+at:]
	case !strings.HasPrefix(rest, "/"):
		if family != FamilyZypp {
			return "", false
		}
		rest = "/" + rest
	}
	if end := strings.IndexAny(rest, "?#"); end >= 0 {
		rest = rest[:end]
	}
	return path.Clean(unescaped(rest)), true
}

// unescaped is a text with its escapes taken for what they stand for; what is no escape stays.
func unescaped(text string) string {
	if !strings.Contains(text, "%") {
		return text
	}
	var out []byte
	for i := 0; i < len(text); i++ {
		if text[i] == '%' && i+2 < len(text) {
			if n, err := strconv.ParseUint(text[i+1:i+3], 16, 8); err == nil {
				out = append(out, byte(n))
				i += 2
				continue
			}
		}
		out = append(out, text[i])
	}
	return string(out)
}

// Reads lists the files that a source names beside the one that it stands in: keys and
// lists of mirrors.
func (s *Source) Reads() (out []string) {
	for _, by := range s.SignedBy {
		if p, local := LocalFile(s.Family, by); local {
			out = append(out, p)
		}
	}
	return append(out, s.MirrorFiles()...)
}

// MirrorFiles are the lists of mirrors on the host that a source names.
func (s *Source) MirrorFiles() (out []string) {
	for _, list := range []string{s.Mirrorlist, s.Metalink} {
		if s.Family == FamilyRpm && list != "" && !strings.Contains(list, ":") {
			list = "/" + list // dnf takes it for the name of a file below where it was started: in / by timers
		}
		if p, local := LocalFile(s.Family, list); local {
			out = append(out, p)
		}
	}
	for _, u := range s.EffURLs {
		for _, scheme := range []string{"mirror+file:", "mirror+copy:"} { // apt knows them in no other spelling
			if p, ok := strings.CutPrefix(u, scheme); ok && strings.HasPrefix(p, "/") {
				out = append(out, path.Clean(unescaped(p))) // apt ends every URL in a slash
			}
		}
	}
	return out
}
