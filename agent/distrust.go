package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os/exec"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

const distrustedName = "distrusted.json" // beside the journal: the keys that a change has taken out of keyrings

// distrusted is a key that was taken out of a keyring, and where its certificate is kept.
type distrusted struct {
	Fingerprint string `json:"fingerprint"`
	Where       string `json:"where"`
	Kept        string `json:"kept"`
	Family      string `json:"family"`
	Released    bool   `json:"released,omitempty"` // as in change.Distrusted
}

// distrustedBy lists the keys that a change has taken out, by the folder of its journal.
func (h *Host) distrustedBy(dir string) (list []distrusted, err error) {
	if err = h.loadJSON(dir+"/"+distrustedName, &list); errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return list, err
}

// distrust takes the keys that are withdrawn out of the keyrings which package managers alone write. One that
// cannot be taken out is told and stays a finding: for want of it nothing else of the withdrawal is put back. It
// comes before the proof, so that a source that goes by such a key is not called good; those that are merely released
// come after it.
func (a *attempt) distrust(ctx context.Context, released bool) error {
	c, h := a.carrier, a.host
	for _, d := range a.plan.Distrusts {
		if d.Released != released {
			continue
		}
		if err := h.distrustOne(ctx, a.sheet.Family, d); err != nil {
			if ctx.Err() != nil {
				return c.failed("%w", err)
			}
			c.report.Around = append(c.report.Around,
				fmt.Sprintf("the key %s is still believed, in %s: %s", d.Fingerprint, d.Where, oneLine(err.Error())))
			continue
		}
		a.gone = append(a.gone, d)
		failpoint("distrusted")
	}
	return nil
}

// distrustOne keeps a certificate, notes it and takes it out.
func (h *Host) distrustOne(ctx context.Context, family string, d change.Distrusted) error {
	ring := keyringOf(h, family, d.Where)
	if ring == nil {
		return errNoRing
	}
	certificate, forget, err := ring.find(ctx, d.Fingerprint)
	if err != nil {
		return err
	}
	kept, err := h.keepCopy(d.Fingerprint+".asc", certificate)
	if err != nil {
		return fmt.Errorf("its certificate cannot be kept: %w", err)
	}
	list, err := h.distrustedBy("journal")
	if err != nil {
		return err
	}
	if err := h.saveJSON("journal/"+distrustedName, append(list, distrusted{d.Fingerprint, d.Where, kept, family, d.Released})); err != nil {
		return err
	}
	return forget(ctx)
}

// ring is a keyring that its package manager alone writes.
type ring interface {
	// find returns a certificate, and how it is taken out.
	find(ctx context.Context, fingerprint string) (certificate []byte, forget func(context.Context) error, err error)
	take(ctx context.Context, file, fingerprint string) error
}

var errNoRing = errors.New("its package manager is none that keeps keys so")

func keyringOf(h *Host, family, where string) ring {
	switch family {
	case rpm.Family, zypp.Family:
		return rpmRing{h, where}
	case arch.Family:
		return pacmanRing{h, where}
	}
	return nil
}

const ringTime = 2 * time.Minute

// rpmRing is the keyring of rpm, wherever rpm keeps it.
type rpmRing struct {
	*Host
	where string
}

func (h rpmRing) args(more ...string) []string {
	if h.Root == "/" {
		return more
	}
	dir := path.Dir(h.where)
	if path.Base(dir) == "pubkeys" { // files beside the database
		dir = path.Dir(dir)
	}
	return append([]string{"--root", h.Root, "--dbpath", dir}, more...)
}

// ringEntry begins an entry in what rpm is asked for.
const ringEntry = "\x1d"

func (h rpmRing) find(ctx context.Context, fingerprint string) ([]byte, func(context.Context) error, error) {
	if _, err := exec.LookPath("rpm"); err != nil {
		return nil, nil, errors.New("rpm is not on this host")
	}
	out, err := h.run(ctx, ringTime, nil, "rpm",
		h.args("-q", "gpg-pubkey", "--qf", ringEntry+"%{NAME}-%{VERSION}-%{RELEASE}\n%{DESCRIPTION}\n")...)
	for _, entry := range strings.Split(out, ringEntry) {
		name, text, _ := strings.Cut(entry, "\n")
		certificate := keyring.Certificate([]byte(text), fingerprint)
		if certificate == nil || !strings.HasPrefix(name, "gpg-pubkey-") {
			continue
		}
		return certificate, func(ctx context.Context) error {
			return h.told(ctx, "rpm", h.args("--erase", "--allmatches", name)...)
		}, nil
	}
	// Newer releases of rpm keep keys where no package stands for them.
	text, readErr := h.fs.ReadFile(h.where)
	if certificate := keyring.Certificate(text, fingerprint); readErr == nil && certificate != nil {
		return certificate, func(ctx context.Context) error {
			return h.told(ctx, "rpmkeys", h.args("--delete", strings.ToLower(fingerprint))...)
		}, nil
	}
	if err != nil {
		return nil, nil, fmt.Errorf("rpm does not list its keys: %s", oneLine(out))
	}
	return nil, nil, errors.New("rpm does not know it")
}

func (h rpmRing) take(ctx context.Context, file, _ string) error {
	return h.told(ctx, "rpmkeys", h.args("--import", file)...)
}

// pacmanRing is the keyring of pacman.
type pacmanRing struct {
	*Host
	where string
}

func (h pacmanRing) dir() string { return path.Join(h.Root, path.Dir(h.where)) }

func (h pacmanRing) find(_ context.Context, fingerprint string) ([]byte, func(context.Context) error, error) {
	text, err := h.fs.ReadFile(h.where)
	if err != nil {
		return nil, nil, err
	}
	certificate := keyring.Certificate(text, fingerprint)
	if certificate == nil {
		return nil, nil, errors.New("it cannot be read out of there")
	}
	return certificate, func(ctx context.Context) error { return h.forget(ctx, fingerprint) }, nil
}

func (h pacmanRing) forget(ctx context.Context, fingerprint string) error {
	return h.told(ctx, "pacman-key", "--gpgdir", h.dir(), "--delete", fingerprint)
}

func (h pacmanRing) take(ctx context.Context, file, fingerprint string) error {
	if err := h.told(ctx, "pacman-key", "--gpgdir", h.dir(), "--add", file); err != nil {
		return err
	}
	return h.told(ctx, "pacman-key", "--gpgdir", h.dir(), "--lsign-key", fingerprint)
}

// told runs a program; what it says when it fails is the error.
func (h *Host) told(ctx context.Context, name string, args ...string) error {
	out, err := h.patiently(ctx, func() (string, error) { return h.run(ctx, ringTime, nil, name, args...) })
	if err == nil {
		return nil
	}
	if said := oneLine(out); said != "" {
		return fmt.Errorf("%s: %s", name, said)
	}
	return fmt.Errorf("%s: %w", name, err)
}

// retake gives the keyrings back what was released by a change that is undone: what goes by it comes back as well.
func (h *Host) retake(dir string) {
	list, _ := h.distrustedBy(dir) // a refresh that fails for want of a key says so
	for _, d := range list {
		if d.Released {
			ctx, cancel := context.WithTimeout(context.Background(), ringTime)
			_ = h.takeAgain(ctx, d)
			cancel()
		}
	}
}

// takeAgain gives a keyring a key back that was taken out of it.
func (h *Host) takeAgain(ctx context.Context, d distrusted) error {
	r := keyringOf(h, d.Family, d.Where)
	if r == nil {
		return errNoRing
	}
	return r.take(ctx, d.Kept, d.Fingerprint)
}

// believeAgain gives the keyrings back what a change had taken out that is taken back itself.
func (c *carrier) believeAgain(ctx context.Context, dir string) {
	list, _ := c.host.distrustedBy(dir)
	for _, d := range list {
		if err := c.host.takeAgain(ctx, d); err != nil {
			c.report.Around = append(c.report.Around, fmt.Sprintf("the key %s, which stood in %s, is kept in %s and could not be given back: %s",
				d.Fingerprint, d.Where, d.Kept, oneLine(err.Error())))
			continue
		}
		c.report.Edits = append(c.report.Edits, api.PreviewFile{Path: d.Where, Action: change.Edit,
			Why: []string{"the key " + d.Fingerprint + " is believed again, as before the rollout that is taken back"}})
	}
}

// onlyTold reports whether a sheet says no more than the one that was carried last but which keys are withdrawn, on a
// host that is as it says: then there is nothing to refresh, and a fleet is told within a moment.
func onlyTold(last, sheet *source.Sheet, now *source.Survey) bool {
	if last == nil {
		return false
	}
	was, is := *last, *sheet
	was.Withdrawn, is.Withdrawn = nil, nil
	if !reflect.DeepEqual(was, is) {
		return false
	}
	return !slices.ContainsFunc(drift.Compare(sheet, now), func(f drift.Finding) bool {
		return f.Wrong() && f.Class != drift.KeyWithdrawn
	})
}

// addedName is beside the journal: the keys that changes have put into keyrings which package managers alone write.
const addedName = "added.json"

// added are those keys, by their fingerprints.
func (h *Host) added() (list []string) {
	if h.loadJSON(addedName, &list) != nil {
		return nil
	}
	return list
}

// noteAdded notes which keys of a sheet came to be believed by a change: they go when nothing names them any more.
// after is how the host stood before keys were released.
func (a *attempt) noteAdded(after *source.Survey) error {
	h := a.host
	in := func(s *source.Survey, fingerprint string) bool {
		return slices.ContainsFunc(s.Keys, func(k source.Key) bool {
			return k.Fingerprint == fingerprint && k.Good() && drift.InDatabase(a.sheet.Family, &k)
		})
	}
	had := h.added()
	list := slices.DeleteFunc(slices.Clone(had), func(fingerprint string) bool {
		released := slices.ContainsFunc(a.gone, func(d change.Distrusted) bool { return d.Fingerprint == fingerprint })
		return released || !in(after, fingerprint)
	})
	for _, k := range a.sheet.Keys {
		if in(after, k.Fingerprint) && !in(&a.before.Survey, k.Fingerprint) && !slices.Contains(list, k.Fingerprint) {
			list = append(list, k.Fingerprint)
		}
	}
	if slices.Equal(list, had) {
		return nil
	}
	return h.saveJSON(addedName, list)
}
