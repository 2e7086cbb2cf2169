package agent

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"patientlantern.example/lantern/api"
)

// readersACL is a list of who may read a file, as the kernel takes it: its owner, a user, its group, a mask, and all others.
var readersACL = []byte{
	2, 0, 0, 0,
	1, 0, 6, 0, 0xff, 0xff, 0xff, 0xff,
	2, 0, 4, 0, 0xe8, 3, 0, 0,
	4, 0, 4, 0, 0xff, 0xff, 0xff, 0xff,
	0x10, 0, 4, 0, 0xff, 0xff, 0xff, 0xff,
	0x20, 0, 4, 0, 0xff, 0xff, 0xff, 0xff,
}

// What a file bears beside its bytes stays with it when it is edited, and is back when the change is taken back, however the change ends:
// what its folder would have new files bear is none of it.
func TestWhatAFileBearsStaysWithIt(t *testing.T) {
	all := map[string][]byte{
		"user.note": []byte("the metrics team's"), "trusted.origin": []byte("image 7"), "system.posix_acl_access": readersACL,
	}
	for _, c := range []struct {
		name, end string
		bears     map[string][]byte
	}{
		{"done and taken back", "back-out", all},
		{"interrupted", "swapped-1", all},
		{"nothing, done and taken back", "back-out", nil},
		{"nothing, interrupted", "swapped-1", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			h, _, _, digest := works[0].begun(t, t.TempDir())
			defer h.Close()
			file := filepath.Join(h.Root, "etc/apt/sources.list")
			for name, value := range c.bears {
				_ = unix.Lsetxattr(file, name, value, 0) // not every file system has every kind
			}
			bears := attributesOf(file)
			require.Equal(t, len(c.bears) > 0, len(bears) > 0, "this file system has no attributes")
			_ = unix.Lsetxattr(filepath.Dir(file), "system.posix_acl_default", readersACL, 0)
			was := tree(t, h.Root)
			_, after := twoSheets()
			if c.end != "back-out" {
				at(t, c.end, func() { panic(died{}) })
				func() {
					defer func() { require.Equal(t, died{}, recover()) }()
					_ = carries(h, 4, after)
				}()
				failpoint = func(string) {}
				_, err := h.Recover()
				require.NoError(t, err)
			} else {
				require.NoError(t, carries(h, 4, after))
				require.NotEqual(t, was, tree(t, h.Root))
				assert.Equal(t, bears, attributesOf(file), "edited")
				back := newCarrier(h, api.Delivery{Rollout: 5, Revision: 1, BackOut: 4, Sheet: digest})
				require.NoError(t, back.backOut(context.Background()))
			}
			assert.Equal(t, was, tree(t, h.Root))
			assert.Equal(t, bears, attributesOf(file))
		})
	}
}
