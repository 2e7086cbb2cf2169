package console_test

import (
	"bytes"
	"context"
	"slices"
	"strconv"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// A colleague's proposal is read beside what it would do, agreed to and published; one's own edit is proposed, and
// waits for the colleague.
func TestAProposalIsReadAgreedAndPublished(t *testing.T) {
	r := rig.New(t)
	ctx := context.Background()
	r.Up("gw-01")
	files := r.Policy()
	files["hosts.yaml"] = append(bytes.Clone(files["hosts.yaml"]), []byte("\npublishing: { consent: true }\n")...)
	_, err := r.Operator.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	o, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: "jonas", Role: "operator"})
	require.NoError(t, err)
	jonas := client.New(r.Server.URL, o.Token)
	files["hosts.yaml"] = bytes.Replace(files["hosts.yaml"], []byte(`channels: { plover: "1.44" }`), []byte(`channels: { plover: rolling }`), 1)
	_, err = jonas.Propose(ctx, api.ProposalOrder{Files: files, Message: "the reef follows what is newest"})
	require.NoError(t, err)

	s := openAt(t, r, "/policy", 1280, 800)
	s.shows(".proposals", "Proposal 1 by jonas")
	s.js(`document.querySelector(".proposals a").click()`)
	s.shows("h1", "Proposal 1 on revision 1")
	s.shows(".proposal", "assignment to reef, channel plover: 1.44 → rolling")
	s.shows(".does", "would change")
	s.fits()
	s.press(".proposal", "Agree")
	s.shows(".proposal", "agreed by first")
	s.press(".proposal", "Publish it")
	s.shows("main", "Revision 2 is published.")
	s.shows("h1", "Revision 2")

	s.shows(".cm-content", "groups:")
	s.writes("# read by two")
	s.shows(".does", "1 host would change")
	s.press(".does", "Propose …")
	s.do(chromedp.WaitVisible(`.el-dialog input[aria-label="Message"]`))
	s.types(`.el-dialog input[aria-label="Message"]`, "a word of the team")
	s.press(".el-dialog", "Propose it")
	s.shows(".proposal", "It lacks the consent of somebody else than first")
	s.shows(".proposal", "Somebody else agrees")
	s.press(".proposal", "Withdraw it")
	s.shows("h1", "Revision 2")
	page, err := jonas.Proposals(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, page.Proposals, 2)
	assert.Equal(t, []string{api.ProposalWithdrawn, api.ProposalPublished}, []string{page.Proposals[0].State, page.Proposals[1].State})

	// What cannot wait is published without consent, with why, and the audit says that it was.
	s.shows(".cm-content", "groups:")
	s.writes("# nobody else is awake")
	s.shows(".does", "1 host would change")
	s.press(".does", "Propose …")
	s.do(chromedp.WaitVisible(`.el-dialog input[aria-label="Message"]`))
	s.types(`.el-dialog input[aria-label="Message"]`, "the vendor lost its key")
	s.js(`document.querySelector(".el-dialog .el-checkbox input").click()`)
	s.shows(".el-dialog__footer", "Publish revision 3 alone")
	s.press(".el-dialog", "Publish revision 3 alone")
	s.shows("main", "Revision 3 is published.")
	journal, err := r.Operator.Audit(ctx, client.List{})
	require.NoError(t, err)
	i := slices.IndexFunc(journal.Entries, func(e api.AuditEntry) bool { return e.What == "publish-policy" })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, string(journal.Entries[i].Detail), `"alone":true`)
	assert.Equal(t, "the vendor lost its key", journal.Entries[i].Why)
}

// writes puts a text into the editor, in the place of its first line.
func (s *screen) writes(text string) {
	s.t.Helper()
	s.js(`(() => {
		const range = document.createRange()
		range.selectNodeContents(document.querySelector(".cm-line"))
		const sel = window.getSelection()
		sel.removeAllRanges()
		sel.addRange(range)
		document.execCommand("insertText", false, ` + strconv.Quote(text) + `)
	})()`)
}
