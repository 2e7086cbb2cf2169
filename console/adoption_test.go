package console_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// A source that somebody has put on a host is taken into the policy from its finding: what would
// be added stands in the editor, is judged beside it, and is published as any edit.
func TestASourceIsTakenIntoThePolicyFromItsFinding(t *testing.T) {
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	r.Carry()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"),
		[]byte("deb http://"+r.World.Plain+"/metrics.plover.example/apt rolling main\n"), 0o644))
	r.Until("the finding is there", func() bool { return len(r.Findings("gw-01")) > 0 })
	s := open(t, r, 1280, 800)
	s.shows("main", "own.list")
	s.js(`[...document.querySelectorAll("main a")].find(a => a.innerText === "Take into the policy").click()`)
	s.shows("h1", "edited")
	s.shows(".cm-content", "Taken over as it stood on gw-01.brinewick.test")
	s.shows(".does", "No host that is known would change")
	s.fits()
	s.press(".does", "Publish …")
	s.js(`(() => { const i = document.querySelector('.el-dialog input[aria-label="Message"]'); i.value = "as it stands"; i.dispatchEvent(new Event("input")) })()`)
	s.press(".el-dialog", "Publish revision 2")
	s.shows("main", "Revision 2 is published.")
	page, err := r.Operator.Revisions(context.Background(), client.List{})
	require.NoError(t, err)
	assert.Equal(t, "as it stands", page.Revisions[0].Message)
}
