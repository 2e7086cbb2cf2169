// Package read shows what is configured on a root folder.
package read

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"time"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
)

// mostMemory is what a reading is to stay below, in bytes, whatever stands on the root: the
// collector of garbage works harder from there on.
const mostMemory = 96 << 20

// Missing is the error for a root that is not there.
type Missing struct{ Root string }

func (e *Missing) Error() string {
	return fmt.Sprintf("there is no folder %s to read; give another with --root", e.Root)
}

// Refused is the error for a root whose package manager would refuse to work.
// All was printed when it is returned.
type Refused struct{}

func (e *Refused) Error() string { return "" }

// meet has the encoder learn the types of a survey, which takes as long as writing a small one.
func meet() {
	_ = json.NewEncoder(io.Discard).Encode(&source.Survey{
		Sources: make([]source.Source, 1), Keys: make([]source.Key, 1), Settings: make([]source.Setting, 1), Pins: make([]source.Pin, 1),
	})
}

// Root surveys a root folder and writes what it found, as table or json. With texts the
// source files stand in the JSON as well, passwords masked.
func Root(root, format string, texts bool, out *view.Out) error {
	if info, err := os.Stat(root); err != nil || !info.IsDir() {
		return &Missing{root}
	}
	debug.SetMemoryLimit(mostMemory)
	debug.SetGCPercent(200) // a plain root is read before anything has to be collected
	h, err := agent.OpenHost(root)
	if err != nil {
		return err
	}
	defer h.Close()
	if format == "json" {
		go meet() // while the root is read
	}
	r := h.Read()
	s := r.Survey
	if texts {
		masked := r.Masked()
		snapshot := saved.Of("", nil, r.Survey, masked)
		enc := json.NewEncoder(out.JSON())
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		if err := enc.Encode(&snapshot); err != nil {
			return err
		}
	} else if format == "json" {
		enc := json.NewEncoder(out.JSON())
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		if err := enc.Encode(&s); err != nil {
			return err
		}
	} else {
		out.Survey(&s, time.Now())
	}
	if err := out.Err(); err != nil {
		return fmt.Errorf("the output cannot be written: %w", err)
	}
	if slices.ContainsFunc(s.Problems, func(p source.Problem) bool { return p.Fatal }) {
		return &Refused{}
	}
	return nil
}
