package agent

import (
	"errors"
	"strings"

	"golang.org/x/sys/unix"
)

// mostAttributes bounds what is kept of the extended attributes of one file, in bytes.
const mostAttributes = 64 << 10

// attributesOf reads the extended attributes of a file. A file system that has none, and
// attributes that cannot be read, give none: nothing is lost that could be put back.
func attributesOf(real string) map[string][]byte {
	names := make([]byte, mostAttributes)
	n, err := unix.Llistxattr(real, names)
	if err != nil || n <= 0 {
		return nil
	}
	out := map[string][]byte{}
	for name := range strings.SplitSeq(strings.TrimRight(string(names[:n]), "\x00"), "\x00") {
		value := make([]byte, mostAttributes)
		if n, err := unix.Lgetxattr(real, name, value); err == nil && n >= 0 {
			out[name] = value[:n]
		}
	}
	return out
}

// setAttributes gives a file extended attributes, and takes away those that it has from its folder alone, such as a
// list of who may read it. What the file system or the kernel does not let it have is left out: it could not have
// stood there.
func setAttributes(real string, all map[string][]byte) error {
	allowed := func(err error) bool {
		return err == nil || errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EPERM) || errors.Is(err, unix.EINVAL) ||
			errors.Is(err, unix.ENODATA)
	}
	for name := range attributesOf(real) {
		if _, wanted := all[name]; !wanted && !strings.HasPrefix(name, "security.") { // a label comes with the place
			if err := unix.Lremovexattr(real, name); !allowed(err) {
				return err
			}
		}
	}
	for name, value := range all {
		if err := unix.Lsetxattr(real, name, value, 0); !allowed(err) {
			return err
		}
	}
	return nil
}
