package family

import (
	"path"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/rootfs"
)

// libraryDirs are where distributions keep the libraries of their package managers, of the machine's own words.
var libraryDirs = []string{
	"/usr/lib64", "/usr/lib", "/usr/lib/x86_64-linux-gnu", "/usr/lib/aarch64-linux-gnu", "/usr/lib/i386-linux-gnu",
	"/usr/lib/arm-linux-gnueabihf", "/usr/lib/powerpc64le-linux-gnu", "/usr/lib/s390x-linux-gnu", "/usr/lib/riscv64-linux-gnu",
}

// Libraries looks for libraries by the names under which programs ask for them, first come first taken, and returns
// the numbers behind the name of the file that is there: of libx.so.1 → libx.so.1.2.3 below "libx.so." it is 1, 2, 3.
// It is empty where none is there.
func Libraries(root *rootfs.FS, stem string, names ...string) (numbers []int) {
	for _, dir := range libraryDirs {
		if _, err := root.Stat(dir); err != nil {
			continue
		}
		for _, name := range names {
			file := path.Join(dir, name)
			if _, err := root.Stat(file); err != nil {
				continue
			}
			if to := root.Link(file); to != "" {
				file = to
			}
			for part := range strings.SplitSeq(strings.TrimPrefix(path.Base(file), stem), ".") {
				n, err := strconv.Atoi(part)
				if err != nil {
					break
				}
				numbers = append(numbers, n)
			}
			return numbers
		}
	}
	return nil
}
