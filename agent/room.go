package agent

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"syscall"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
)

// roomy is a package manager that is looked after where there is no room for what it fetches: of that it speaks as of a signature
// which does not fit, or of none.
type roomy struct {
	manager
	host *Host
	dirs []string // that metadata goes to, below the root
}

// noRoom are the causes that a want of room may look like.
var noRoom = []cause.Kind{
	"", cause.UnknownKey, cause.BadSignature, cause.Unsigned, cause.NotMetadata, cause.Mismatch, cause.Missing, cause.Cut, cause.KeyFile,
}

// refresh implements manager.
func (m roomy) refresh(ctx context.Context, q asked) (string, []api.SourceOutcome, error) {
	how, out, err := m.manager.refresh(ctx, q)
	failed := err != nil
	for i := range out {
		failed = failed || !out[i].OK
	}
	if !failed {
		return how, out, err
	}
	why := m.want(q)
	if why == "" {
		return how, out, err
	}
	may := func(message string) bool {
		c, _ := cause.Of(message)
		return slices.Contains(noRoom, c.Kind)
	}
	for i := range out {
		if o := &out[i]; !o.OK && may(o.Message) {
			o.Message = why + ": " + o.Message
		}
	}
	if err != nil && may(err.Error()) {
		err = fmt.Errorf("%s: %w", why, err)
	}
	return how, out, err
}

// leastRoom is how many bytes are too few for metadata to be kept.
const leastRoom = 1 << 20

// want says where nothing can be written; empty where there is room.
func (m roomy) want(q asked) string {
	dirs := []string{q.scratch, "/var/tmp", "/tmp"}
	for _, dir := range m.dirs {
		dirs = append(dirs, filepath.Join(m.host.Root, dir))
	}
	for _, dir := range dirs {
		var st syscall.Statfs_t
		if dir == "" || syscall.Statfs(dir, &st) != nil {
			continue
		}
		const readOnly = 1 // ST_RDONLY
		switch {
		case st.Flags&readOnly != 0:
			return "read-only file system at " + dir
		case st.Bavail*uint64(st.Bsize) < leastRoom:
			return fmt.Sprintf("no space left on device at %s (%d kB)", dir, st.Bavail*uint64(st.Bsize)>>10)
		case st.Files > 0 && st.Ffree == 0:
			return "no space left on device at " + dir + " (not one file more)"
		}
	}
	return ""
}
