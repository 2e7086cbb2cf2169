package agent

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/google/renameio/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/source"
)

// accessMemory is which access files the agent keeps on the host.
type accessMemory struct {
	Stamp string       `json:"stamp"` // of the grant that they were written from
	Sheet string       `json:"sheet"` // for which they were written
	Files []accessFile `json:"files"`
}

// accessFile is a file that holds access. Digest tells whether it still holds what
// was written; it never leaves the host.
type accessFile struct {
	Account string    `json:"account"`
	Path    string    `json:"path"`
	Mode    string    `json:"mode"`
	Digest  string    `json:"digest"`
	Expires time.Time `json:"expires"`
}

const accessName = "access.json"

func (h *Host) accessMemory() (m accessMemory, err error) {
	err = h.loadJSON(accessName, &m)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return m, err
}

// fetchAccess asks the service for the access that a sheet needs. The answer is
// encrypted to a key that lives as long as the call.
func (l *link) fetchAccess(ctx context.Context, e *Enrolment, sheet *source.Sheet) (api.AccessGrant, error) {
	var grant api.AccessGrant
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return grant, err
	}
	jwk, err := (&jose.JSONWebKey{Key: key.Public()}).MarshalJSON()
	if err != nil {
		return grant, err
	}
	claim := api.AccessClaim{Host: e.Host, Key: string(jwk), Issued: l.now().UTC(), Wants: []api.AccessWant{}}
	for _, a := range sheet.Access {
		claim.Wants = append(claim.Wants, api.AccessWant{Account: a.Account, Kind: a.Kind})
	}
	b, err := json.Marshal(claim)
	if err != nil {
		return grant, err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: l.key}, nil)
	if err != nil {
		return grant, err
	}
	signed, err := signer.Sign(b)
	if err != nil {
		return grant, err
	}
	order, err := signed.CompactSerialize()
	if err != nil {
		return grant, err
	}
	var out api.AccessAnswer
	if err := l.call(ctx, http.MethodPost, "/api/agent/access", api.AccessOrder{Claim: order}, &out); err != nil {
		return grant, err
	}
	return openGrant(out.Sealed, key, e, l.now())
}

// openGrant decrypts a grant and checks that it is of the pinned service, for this
// host, and in time.
func openGrant(sealed string, key *ecdsa.PrivateKey, e *Enrolment, now time.Time) (g api.AccessGrant, err error) {
	jwe, err := jose.ParseEncryptedCompact(sealed, []jose.KeyAlgorithm{jose.ECDH_ES_A256KW}, []jose.ContentEncryption{jose.A256GCM})
	if err != nil {
		return g, errors.New("refused: the access is not a JWE of the kind that was asked for")
	}
	text, err := jwe.Decrypt(key)
	if err != nil {
		return g, errors.New("refused: the access is not encrypted to this host")
	}
	defer clear(text)
	payload, err := verifySigned(text, e, api.TypeGrant)
	if err != nil {
		return g, fmt.Errorf("refused: the access %w", err)
	}
	defer clear(payload)
	if err := json.Unmarshal(payload, &g); err != nil {
		return g, errors.New("refused: the access cannot be read")
	}
	if g.Host != e.Host {
		return g, fmt.Errorf("refused: the access is for %s, and this is %s", g.Host, e.Host)
	}
	return g, inTime("the access", g.Issued, g.Expires, now)
}

// applyAccess brings the access files of the host to what a grant gives for a sheet:
// writes those that differ, and removes those that were written for another sheet or
// whose seat has gone, unless keep is true: then that is left for later. It reports
// whether anything changed, and what is missing.
func (h *Host) applyAccess(sheet *source.Sheet, digest string, g *api.AccessGrant, keep bool) (changed bool, missing []string, err error) {
	old, err := h.accessMemory()
	if err != nil {
		return false, nil, err
	}
	next := accessMemory{Stamp: g.Stamp, Sheet: digest, Files: []accessFile{}}
	type write struct {
		accessFile
		text []byte
	}
	h.accessWritten = old.Files
	var writes []write
	for _, a := range sheet.Access {
		var secret *credential.Secret
		i := slices.IndexFunc(g.Items, func(x api.AccessItem) bool {
			return x.Account == a.Account && (x.Missing != "" || x.Secret.Kind == a.Kind)
		})
		switch {
		case i < 0:
			missing = append(
				missing,
				fmt.Sprintf("%s: the service gave no access of the account %s", strings.Join(a.Repositories, ", "), a.Account),
			)
		case g.Items[i].Missing != "":
			missing = append(missing, fmt.Sprintf("%s: %s", strings.Join(a.Repositories, ", "), g.Items[i].Missing))
		default:
			secret = &g.Items[i].Secret
			h.secrets.learn(secret.Password, secret.Token)
		}
		for _, f := range a.Files {
			w := write{accessFile: accessFile{Account: a.Account, Path: f.Path, Mode: f.Mode}}
			switch {
			case secret != nil:
				text, err := secret.Write(f)
				if err != nil {
					return changed, missing, err
				}
				if err := permitText(f.Path, text); err != nil {
					return changed, missing, err
				}
				w.text, w.Expires = []byte(text), secret.Expires.UTC()
			case f.Without != "":
				w.text = []byte(f.Without)
			default:
				continue
			}
			w.Digest = source.Digest(w.text)
			writes = append(writes, w)
		}
	}
	// What is about to stand there is noted first: after a crash it is still known
	// which files are the agent's.
	for _, w := range writes {
		next.Files = append(next.Files, w.accessFile)
	}
	both := next
	both.Stamp = "" // not whole yet: the next round fetches again
	for _, f := range old.Files {
		if !slices.ContainsFunc(next.Files, func(x accessFile) bool { return x.Path == f.Path }) {
			both.Files = append(slices.Clone(both.Files), f)
		}
	}
	if err := h.saveJSON(accessName, both); err != nil {
		return changed, missing, err
	}
	for _, w := range writes {
		if state, _, _ := h.accessState(w.accessFile); state == credential.FileOK {
			continue
		}
		changed = true
		if err := h.writeAccess(w.accessFile, w.text); err != nil {
			return changed, missing, fmt.Errorf("%s cannot be written: %w", w.Path, plain(err))
		}
		clear(w.text)
	}
	if keep {
		return changed, missing, nil
	}
	for _, f := range both.Files[len(next.Files):] {
		p, err := h.path(f.Path)
		if err != nil {
			return changed, missing, err
		}
		if now, there, _ := readPlain(p); there && source.Digest(now) != f.Digest {
			if _, err := h.keepCopy(f.Path, now); err != nil { // somebody's own
				return changed, missing, err
			}
		}
		if err := os.Remove(p); err == nil {
			changed = true
		} else if !errors.Is(err, fs.ErrNotExist) {
			return changed, missing, err
		}
	}
	return changed, missing, h.saveJSON(accessName, next)
}

// writeAccess writes a file whole, for root alone to own.
func (h *Host) writeAccess(f accessFile, text []byte) error {
	p, err := h.path(f.Path)
	if err != nil {
		return err
	}
	mode, err := strconv.ParseUint(f.Mode, 8, 32)
	if err != nil {
		return fmt.Errorf("its mode %q cannot be read", f.Mode)
	}
	if err := h.locked(p); err != nil {
		return err
	}
	if err := makeDirs(filepath.Dir(p), 0o755); err != nil {
		return err
	}
	if now, there, err := readPlain(p); err != nil {
		return err
	} else if there && len(now) > 0 && source.Digest(now) != f.Digest && !h.wroteAccess(f.Path, source.Digest(now)) {
		if _, err := h.keepCopy(f.Path, now); err != nil { // somebody's own
			return err
		}
	}
	// The file is never there with more permissions than it shall have: it is made
	// with the right ones and renamed into place.
	pending, err := renameio.NewPendingFile(
		p,
		renameio.WithTempDir(filepath.Dir(p)),
		renameio.WithStaticPermissions(fs.FileMode(mode).Perm()),
	)
	if err != nil {
		return err
	}
	defer pending.Cleanup() //nolint:errcheck // after it is in place there is nothing to clean up
	if os.Geteuid() == 0 {
		if err := pending.Chown(0, 0); err != nil {
			return err
		}
	}
	if _, err := pending.Write(text); err != nil {
		return err
	}
	if err := pending.CloseAtomicallyReplace(); err != nil {
		return err
	}
	return syncDir(filepath.Dir(p))
}

// wroteAccess reports whether the agent itself wrote a file so.
func (h *Host) wroteAccess(path, digest string) bool {
	return slices.ContainsFunc(h.accessWritten, func(f accessFile) bool { return f.Path == path && f.Digest == digest })
}

// accessState says how an access file stands, and what it has and should have
// where that is to be said.
func (h *Host) accessState(f accessFile) (state, have, want string) {
	p, err := h.path(f.Path)
	if err != nil {
		return credential.FileMissing, "", ""
	}
	info, err := os.Lstat(p)
	if err != nil || !info.Mode().IsRegular() {
		return credential.FileMissing, "", ""
	}
	if mode := fmt.Sprintf("%04o", info.Mode().Perm()); mode != f.Mode {
		return credential.FileMode, mode, f.Mode
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && os.Geteuid() == 0 && (st.Uid != 0 || st.Gid != 0) {
		return credential.FileOwner, fmt.Sprintf("%d:%d", st.Uid, st.Gid), "0:0"
	}
	data, err := os.ReadFile(p)
	if err != nil || source.Digest(data) != f.Digest {
		return credential.FileChanged, "", ""
	}
	clear(data)
	return credential.FileOK, "", ""
}

// accessFiles says how the access files of the host stand.
func (h *Host) accessFiles() []credential.HeldFile {
	out := []credential.HeldFile{}
	m, err := h.accessMemory()
	if err != nil {
		return out
	}
	for _, f := range m.Files {
		x := credential.HeldFile{Account: f.Account, Path: f.Path}
		x.State, x.Have, x.Want = h.accessState(f)
		if !f.Expires.IsZero() {
			at := f.Expires
			x.Expires = &at
		}
		out = append(out, x)
	}
	return out
}

// access puts in place what a sheet that is being carried out needs; keep leaves for
// later what it needs no more. The service is asked once for each sheet.
func (c *carrier) access(ctx context.Context, sheet *source.Sheet, digest string, keep bool) error {
	old, err := c.host.accessMemory()
	if err != nil {
		return err
	}
	if len(sheet.Access) == 0 && len(old.Files) == 0 {
		return nil
	}
	grant, ok := c.grants[digest]
	if !ok {
		grant.Stamp = old.Stamp
		if len(sheet.Access) > 0 && c.link == nil {
			return errors.New("the access to licensed sources is given by the service, which does not look after this host")
		}
		if len(sheet.Access) > 0 {
			if grant, err = c.link.fetchAccess(ctx, c.enrol, sheet); err != nil {
				return fmt.Errorf("the access cannot be had: %w", err)
			}
		}
		if c.grants == nil {
			c.grants = map[string]api.AccessGrant{}
		}
		c.grants[digest] = grant
	}
	changed, missing, err := c.host.applyAccess(sheet, digest, &grant, keep)
	c.accessChanged = c.accessChanged || changed
	if err == nil && len(missing) > 0 {
		err = errors.New(strings.Join(missing, "; "))
	}
	return err
}

// accessPaths are the files that open the sources of a sheet.
func accessPaths(sheet *source.Sheet) (out []string) {
	for _, a := range sheet.Access {
		for _, f := range a.Files {
			out = append(out, f.Path)
		}
	}
	return out
}

// renewAccess brings the access files to what the service says, for the sheet that
// was carried out last, when either has changed since they were written.
func (a *Agent) renewAccess(ctx context.Context, stamp string) (bool, error) {
	old, err := a.host.accessMemory()
	if err != nil {
		return false, err
	}
	var last memory
	if err := a.host.loadJSON("memory.json", &last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	sheet := a.host.lastSheet()
	if sheet == nil {
		sheet = &source.Sheet{}
	}
	if old.Stamp == stamp && old.Sheet == last.Sheet || len(sheet.Access) == 0 && len(old.Files) == 0 {
		return false, nil
	}
	grant := api.AccessGrant{Stamp: stamp}
	if len(sheet.Access) > 0 {
		if grant, err = a.link.fetchAccess(ctx, &a.enrol, sheet); err != nil {
			return false, err
		}
	}
	changed, missing, err := a.host.applyAccess(sheet, last.Sheet, &grant, false)
	if err == nil && changed {
		a.log.Info("access brought up to date", "stamp", grant.Stamp, "missing", strings.Join(missing, "; "))
	}
	return changed, err
}
