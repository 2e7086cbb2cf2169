package agent

import (
	"errors"
	"fmt"
	"path/filepath"

	"patientlantern.example/lantern/internal/onlyone"
)

// lock makes sure that one agent at a time works on the root.
func (h *Host) lock() (release func(), err error) {
	if err := makeDirs(h.State, 0o700); err != nil {
		return nil, fmt.Errorf("the agent's folder cannot be made: %w", err)
	}
	release, err = onlyone.Lock(filepath.Join(h.State, "lock"))
	var taken *onlyone.TakenError
	switch {
	case errors.As(err, &taken):
		return nil, fmt.Errorf("another agent is at work on %s (process %s); end it first", h.Root, taken.Process)
	case err != nil:
		return nil, fmt.Errorf("the agent's lock cannot be taken: %w", err)
	}
	return release, nil
}
