package keyring

import (
	"encoding/hex"
	"errors"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/source"
)

// How far gpg believes that a key is whose it says: the web of trust of gpg(1), with one
// signature of somebody fully trusted or three of somebody marginally trusted, five deep.
// trust_test.go asks the real gpg.

// How much the holder of a key is trusted to sign others, in the numbers of trustdb.gpg.
const (
	trustMarginal = 4
	trustFull     = 5
	trustUltimate = 6
)

// Validities of a key.
const (
	ValidityUnknown  = "unknown"
	ValidityMarginal = "marginal"
	ValidityFull     = "full"
	ValidityUltimate = "ultimate"
)

const (
	marginalsNeeded = 3
	deepest         = 5
	trustRecord     = 40 // bytes
	recordTrust     = 12 // the type of a record
)

// ownerTrust reads which keys are trusted to sign others out of a trustdb.gpg, by upper-case
// fingerprint. The format is that of doc/DETAILS of GnuPG.
func ownerTrust(db []byte) map[string]byte {
	out := map[string]byte{}
	for ; len(db) >= trustRecord; db = db[trustRecord:] {
		if r := db[:trustRecord]; r[0] == recordTrust {
			out[strings.ToUpper(hex.EncodeToString(r[2:22]))] = r[22] & 0xf
		}
	}
	return out
}

// node is a certificate in the web.
type node struct {
	*judged
	fpr      string
	validity string
	fresh    bool // it became valid in the last round
}

// ReadWeb is Read for the keyring of a program that asks for trust: each key says how valid
// its keyring makes it. db is the text of trustdb.gpg beside it.
func ReadWeb(data, db []byte, at At) ([]source.Key, error) {
	r := rings([][]byte{data}, at, "gpg", certificates)[0]
	list, keys, err := r.list, r.keys, r.err
	if len(list) == 0 {
		return nil, err
	}
	w := &web{trust: ownerTrust(db), byID: map[uint64][]*node{}, now: at.Now, work: at.Work}
	for i, c := range list {
		n := &node{fpr: keys[i].Fingerprint, validity: ValidityUnknown}
		c.open()
		if c.primary != nil && keys[i].Used {
			if n.judged = c.verdict; n.judged == nil { // another file had it before
				n.judged = c.judge(at.Now)
			}
		}
		w.nodes = append(w.nodes, n)
	}
	w.settle()
	for i, n := range w.nodes {
		keys[i].Validity = n.validity
	}
	if at.Work != nil && *at.Work < 0 && err == nil {
		err = errors.New("more signatures stand in it than are checked, so keys may be valid that are called unknown here")
	}
	return keys, err
}

type web struct {
	trust map[string]byte
	nodes []*node
	byID  map[uint64][]*node // those whose signatures count
	now   time.Time
	work  *int // what is left of it; nil where it is not bounded
}

// spend reports whether a signature by a key may still be checked.
func (w *web) spend(by *node) bool {
	if w.work == nil {
		return true
	}
	*w.work -= cost(by.primary)
	return *w.work >= 0
}

// alive reports whether a certificate is neither revoked nor at its end.
func (n *node) alive(now time.Time) bool {
	return n.judged != nil && !n.revoked && (n.expires == nil || now.IsZero() || n.expires.After(now))
}

// settle gives every key its validity, round by round from the keys of the host's own.
func (w *web) settle() {
	for _, n := range w.nodes {
		if w.trust[n.fpr] == trustUltimate && n.judged != nil {
			n.validity, n.fresh = ValidityUltimate, true
		}
	}
	for range deepest {
		grown := false
		for _, n := range w.nodes {
			if n.fresh && w.trust[n.fpr] >= trustMarginal && n.alive(w.now) {
				w.byID[n.id] = append(w.byID[n.id], n)
				grown = true
			}
			n.fresh = false
		}
		if !grown {
			return
		}
		for _, n := range w.nodes {
			if n.judged == nil || n.validity == ValidityUltimate || n.validity == ValidityFull {
				continue
			}
			if n.validity = w.count(n); n.validity == ValidityFull {
				n.fresh = true
			}
		}
	}
}

// count says how valid the best user id of a key is by those who signed it.
func (w *web) count(n *node) string {
	best := ValidityUnknown
	if !n.alive(w.now) {
		return best
	}
	for i, u := range n.certificate.users {
		if u.attribute || !n.judged.users[i].bound || n.judged.users[i].revoked {
			continue
		}
		full, marginal := w.signers(n, u)
		switch {
		case full > 0 || marginal >= marginalsNeeded:
			return ValidityFull
		case marginal > 0:
			best = ValidityMarginal
		}
	}
	return best
}

// signers counts who signed a user id: the newest signature of each counts.
func (w *web) signers(n *node, u *user) (full, marginal int) {
	newest := map[*node]*packet.Signature{}
	for _, sig := range u.signatures {
		certifies := sig.SigType >= packet.SigTypeGenericCert && sig.SigType <= packet.SigTypePositiveCert
		if sig.IssuerKeyId == nil || *sig.IssuerKeyId == n.id || !certifies && sig.SigType != packet.SigTypeCertificationRevocation {
			continue
		}
		for _, by := range w.byID[*sig.IssuerKeyId] {
			if old := newest[by]; old != nil && sig.CreationTime.Before(old.CreationTime) ||
				!w.spend(by) || !by.signed(sig, n.primary, over(u)) {
				continue
			}
			newest[by] = sig
		}
	}
	for by, sig := range newest {
		if sig.SigType == packet.SigTypeCertificationRevocation || by.ended(sig) {
			continue
		}
		if w.trust[by.fpr] >= trustFull {
			full++
		} else {
			marginal++
		}
	}
	return full, marginal
}
