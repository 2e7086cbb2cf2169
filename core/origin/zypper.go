package origin

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"patientlantern.example/lantern/core/rootfs"
)

// ZyppLog is where zypper notes what it has done, a line each.
const ZyppLog = "/var/log/zypp/history"

// openZypper reads zypper's log: DATE|install|NAME|EDITION|ARCH|WHO|REPOSITORY|SUM|…
// The last installation of each counts.
func openZypper(root *rootfs.FS) (teller, error) {
	have, err := installedRPMs(root)
	if err != nil {
		return nil, err
	}
	f, err := root.Open(ZyppLog)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errors.New("zypper keeps no log in " + ZyppLog)
	}
	if err != nil {
		return nil, fmt.Errorf("zypper's log cannot be read: %w", err)
	}
	defer f.Close()
	last := map[string]string{}
	in := bufio.NewScanner(f)
	in.Buffer(make([]byte, 1<<16), 1<<20)
	for in.Scan() {
		p := strings.Split(in.Text(), "|")
		if len(p) < 7 || p[1] != "install" || strings.HasPrefix(p[0], "#") {
			continue
		}
		last[piece{name: p[2], version: p[3], arch: p[4]}.key()] = p[6]
	}
	if err := in.Err(); err != nil {
		return nil, fmt.Errorf("zypper's log cannot be read: %w", err)
	}
	out := noted{}
	for key, repo := range last {
		if p, ok := have[key]; ok {
			out[repo] = append(out[repo], p)
		}
	}
	return out, nil
}
