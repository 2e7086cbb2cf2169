package agent

import (
	"context"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"patientlantern.example/lantern/core/survey"
)

// watcher watches folders. Where the machine has no more of them to give, nothing is watched, and
// all is read every few minutes.
func (a *Agent) watcher() (w *fsnotify.Watcher, end func()) {
	w, err := a.folders()
	if err != nil {
		a.log.Warn("no folder can be watched; all of them are read every few minutes", "error", err)
		return &fsnotify.Watcher{}, func() {}
	}
	return w, func() { _ = w.Close() }
}

// own reports whether a path is one of the agent's own temporary files.
func (a *Agent) own(name string) bool {
	b := filepath.Base(name) // a dot, the file's name, and digits
	return len(b) > 1 && b[0] == '.' && b[len(b)-1] >= '0' && b[len(b)-1] <= '9'
}

// mostWatched bounds how many folders are watched beside the usual ones.
const mostWatched = 200

// readFrom lists the folders that the last survey was read from: configuration can move
// them, and sources name keys and lists of mirrors anywhere.
func (a *Agent) readFrom() []string {
	if a.last == nil {
		return nil
	}
	dirs := map[string]bool{}
	note := func(file string) {
		if strings.HasPrefix(file, "/") && len(dirs) < mostWatched {
			dirs[path.Dir(file)] = true
		}
	}
	s := &a.last.result.Survey
	for _, file := range slices.Sorted(maps.Keys(a.last.result.Texts)) {
		note(file)
	}
	for i := range s.Sources {
		note(s.Sources[i].File)
		for _, file := range s.Sources[i].Reads() {
			note(file)
		}
	}
	for i := range s.Keys {
		note(s.Keys[i].Where)
	}
	for i := range s.Settings {
		note(s.Settings[i].File)
	}
	for i := range s.Deciding {
		note(s.Deciding[i].File)
		if s.Deciding[i].Named { // may be a folder
			note(s.Deciding[i].File + "/.")
		}
	}
	return slices.Sorted(maps.Keys(dirs))
}

// watch looks at the folders whose files say what is configured; where one is
// missing, at the nearest above it.
func (a *Agent) watch() {
	if a.events() == nil { // there is none
		return
	}
	for _, dir := range slices.Concat(survey.WatchDirs, a.host.watchMedia(), a.readFrom()) {
		p, err := a.host.path(dir)
		if err != nil {
			continue
		}
		for p != a.host.Root && len(p) > len(a.host.Root) {
			if info, err := os.Stat(p); err == nil && info.IsDir() {
				break
			}
			p = filepath.Dir(p)
		}
		if err := a.watched.Add(p); err != nil {
			a.log.Warn("a folder cannot be watched; it is read every few minutes", "folder", p, "error", err)
		}
	}
}

// mostLooks bounds how often the host is surveyed for one round.
const mostLooks = 3

// look surveys the host, and again where a file changes meanwhile: one that is written in place is empty for a moment, and
// nobody is told of that.
func (a *Agent) look(ctx context.Context) error {
	a.stirred() // what has changed by now is seen
	for looks := 1; ; looks++ {
		l, err := a.host.look()
		if err != nil {
			return err
		}
		a.last, a.lastLook = l, a.now()
		if looks == mostLooks || !a.stirred() {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(settle):
		}
	}
}

// mostStirred bounds how many changes are taken in at once; what comes beyond is the next round's.
const mostStirred = 1000

// stirred takes in what has changed in the folders that are watched, and reports whether anything has.
func (a *Agent) stirred() (any bool) {
	for range mostStirred {
		select {
		case e := <-a.events():
			any = any || !a.own(e.Name)
			continue
		default:
		}
		break
	}
	if any {
		a.watch() // folders may have come
	}
	return any
}

// events are those of the folders that are watched; none where none is.
func (a *Agent) events() <-chan fsnotify.Event {
	if a.watched == nil {
		return nil
	}
	return a.watched.Events
}
