package agent

import (
	"errors"
	"os"
	"path"
	"time"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// attached lists the folders of media that a sheet names and in which something stands.
// A folder on which nothing is mounted is empty.
func (h *Host) attached(sheet *source.Sheet) (out []string) {
	if sheet == nil {
		return nil
	}
	seen := map[string]bool{}
	for _, f := range sheet.Files {
		if f.While == "" || seen[f.While] {
			continue
		}
		seen[f.While] = true
		if holds, _ := h.holds(f.While); holds {
			out = append(out, f.While)
		}
	}
	return out
}

// mediaPatience is how long a folder of media may take to say whether something stands in it.
const mediaPatience = 2 * time.Second

// holds reports whether something stands in a folder of media. One on a network that does not answer may never say: answers is false
// then, and it is asked on behind, once.
func (h *Host) holds(dir string) (holds, answers bool) {
	said, patience := h.asked[dir], time.Duration(0)
	if said == nil {
		said, patience = make(chan bool, 1), mediaPatience
		if h.asked == nil {
			h.asked = map[string]chan bool{}
		}
		h.asked[dir] = said
		list := h.list
		if list == nil {
			list = rootfs.New(h.whole()).ReadDir // its own: what hangs is shared with nobody
		}
		go func() {
			entries, err := list(dir)
			said <- err == nil && len(entries) > 0
		}()
	}
	select {
	case holds = <-said:
	default:
		select {
		case holds = <-said:
		case <-time.After(patience):
			return false, false
		}
	}
	delete(h.asked, dir)
	return holds, true
}

// tendMedia makes sources of media come and go with the media: a source whose media is
// not there makes every refresh fail. It touches only files of the sheet that was
// carried out last, and only while they stand as that says.
func (h *Host) tendMedia() (changed bool, err error) {
	sheet := h.lastSheet()
	if sheet == nil {
		return false, nil
	}
	if open, err := h.journalOpen(); open || err != nil {
		return false, err
	}
	there := map[string]bool{}
	for _, m := range h.attached(sheet) {
		there[m] = true
	}
	for _, f := range sheet.Files {
		if f.While == "" || f.IfThere {
			continue
		}
		p, err := h.path(f.Path)
		if err != nil {
			return changed, err
		}
		now, err := os.ReadFile(p)
		exists := err == nil
		idle, kept := change.Idle(f)
		e := change.FileEdit{Path: f.Path, Mode: f.Mode, Old: now, New: []byte(f.Text), Action: change.Create}
		switch {
		case there[f.While] && !exists:
		case there[f.While] && kept && string(now) == idle:
			e.Action = change.Edit
		case !there[f.While] && exists && string(now) == f.Text && kept:
			e.Action, e.New = change.Edit, []byte(idle)
		case !there[f.While] && exists && string(now) == f.Text:
			e.Action = change.Remove
		default:
			continue
		}
		s, err := h.stage(e, journalEntry{})
		if err == nil {
			err = h.swapOut(s)
			s.drop()
		}
		if errors.Is(err, errTouched) {
			continue // the next round looks again
		}
		if err != nil {
			return changed, err
		}
		changed = true
	}
	return changed, nil
}

// watchMedia lists the folders above those of media: an attachment shows there.
func (h *Host) watchMedia() (out []string) {
	sheet := h.lastSheet()
	if sheet == nil {
		return nil
	}
	for _, f := range sheet.Files {
		if f.While == "" {
			continue
		}
		out = append(out, path.Dir(f.While))
		if _, answers := h.holds(f.While); answers {
			out = append(out, f.While)
		}
	}
	return out
}
