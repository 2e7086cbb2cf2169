package main

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/cli/view"
)

// What is not well on a host is marked, and an error: monitoring asks for the exit status.
func TestWhatIsNotWellIsAnError(t *testing.T) {
	well := agent.Status{
		Host: "gw-01.brinewick.test", Service: "https://lantern.brinewick.test", Revision: 4, Given: time.Now(), Works: true, Process: "77",
	}
	for _, x := range []struct {
		says, marked string // empty: nothing is marked
		change       func(*agent.Status)
	}{
		{"answers; nothing waits", "", func(*agent.Status) {}},
		{"something waits", "", func(s *agent.Status) { s.Waits = true }},
		{"none was carried out yet", "", func(s *agent.Status) { s.Revision = 0 }},
		{"at work, process 77", "", func(*agent.Status) {}},
		{"one is under way", "", func(s *agent.Status) { s.Open = true }},
		{"lantern-agent run", "agent     ! not at work", func(s *agent.Status) { s.Works = false }},
		{"put back", "change    ! one is under way", func(s *agent.Status) { s.Open, s.Works = true, false }},
		{"nobody there", "service   ! https://lantern.brinewick.test: ", func(s *agent.Status) { s.Answer = errors.New("nobody there") }},
	} {
		s := well
		x.change(&s)
		f, err := os.CreateTemp(t.TempDir(), "out")
		require.NoError(t, err)
		err = told(view.NewOut(f, "never"), &s)
		text, readErr := os.ReadFile(f.Name())
		require.NoError(t, readErr)
		assert.Contains(t, string(text), x.says)
		assert.Contains(t, string(text), x.marked)
		assert.Equal(t, x.marked != "", err != nil, x.says)
		assert.Equal(t, x.marked != "", strings.Contains(string(text), "!"), x.says)
	}
}
