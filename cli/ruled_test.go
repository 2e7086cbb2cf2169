package cli

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/reason"
)

func TestAFileThatHoldsWhatThePolicyWantsBesideOthersIsExplained(t *testing.T) {
	whole := func() reason.Explanation {
		return reason.Explanation{
			Repositories: []reason.RepositoryReason{{Name: "base"}, {Name: "plover"}},
			Rules: []reason.RuleReason{
				{Repository: "base", Text: "sections are on", Stands: []string{"/etc/zypp/repos.d/halyard.repo"}},
				{Repository: "plover", Text: "a lock of plover-agent stands there", Stands: []string{"/etc/zypp/locks"}},
			},
			Files: []reason.FileReason{{Path: "/etc/zypp/repos.d/plover.repo", Repository: "plover"}},
		}
	}
	got, err := edited(whole(), "/etc/zypp/locks", errors.New("no file of that name"))
	require.NoError(t, err)
	require.Len(t, got.Rules, 1)
	assert.Equal(t, "plover", got.Rules[0].Repository)
	require.Len(t, got.Repositories, 1)
	assert.Equal(t, "plover", got.Repositories[0].Name)
	assert.Empty(t, got.Files)
	_, err = edited(whole(), "/etc/zypp/nothing", errors.New("no file of that name"))
	assert.EqualError(t, err, "no file of that name")
}
