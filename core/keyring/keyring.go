// Package keyring reads OpenPGP certificates, RFC 9580 and its forerunners, and
// says what a package manager would trust them for.
package keyring

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/source"
)

// ErrNoKey is returned for text in which no certificate stands.
var ErrNoKey = errors.New("no OpenPGP certificate in it")

// ErrSecret is returned for text that holds a private key: alone by Certificates, and by what reads files as programs do
// beside the keys that they take.
var ErrSecret = errors.New("it holds a private key, and whoever reads that can sign; export the public one alone")

const armorStart = "-----BEGIN PGP"

// Certificates returns the certificates in data, armoured or binary, in order.
func Certificates(data []byte) (openpgp.EntityList, error) {
	raw, err := dearmor(data)
	if err != nil {
		return nil, err
	}
	if IsKeybox(raw) {
		if raw, err = unbox(raw); err != nil && len(raw) == 0 {
			return nil, err
		}
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil, ErrNoKey
	}
	list, err := openpgp.ReadKeyRing(bytes.NewReader(raw))
	if err != nil && len(list) == 0 {
		return nil, fmt.Errorf("%w: %v", ErrNoKey, err)
	}
	if len(list) == 0 {
		return nil, ErrNoKey
	}
	for _, e := range list {
		if e.PrivateKey != nil {
			return nil, ErrSecret
		}
	}
	return list, nil
}

// At is under what circumstances keys are judged: the moment that counts for what has ended
// (with the zero time nothing has), and how much work is left. Work may be nil: then it is
// not bounded.
type At struct {
	Now  time.Time
	Work *int
	// Seen remembers what was said of certificates: the same one stands in many files. Nil
	// remembers nothing.
	Seen *Seen
	// Imports says that gpg imports what stands in the text: it passes over certificates of versions that it does
	// not know, where gpgv, which reads a keyring, does not go on.
	Imports bool
}

// Seen remembers certificates by their bytes.
type Seen struct {
	mu   sync.Mutex
	keys map[string]said
}

// said is what was said of a certificate.
type said struct {
	key     source.Key
	shunned string // why sqv takes no signature by it; empty where it does
}

func (s *Seen) get(raw []byte) (k said, ok bool) {
	if s == nil {
		return k, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	k, ok = s.keys[string(raw)]
	return k, ok
}

// mostSeen bounds how many certificates are remembered, and how long one may be, in bytes.
const mostSeen, longestSeen = 2_000, 64 << 10

func (s *Seen) put(raw []byte, k said) {
	if s == nil || len(raw) > longestSeen {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.keys == nil {
		s.keys = map[string]said{}
	}
	if len(s.keys) < mostSeen {
		s.keys[string(raw)] = k
	}
}

// MostWork is the work of judging that is done for one root: a signature of RSA or of a usual
// curve is 1. A distribution's keys take some hundreds.
const MostWork = 4_000

// costs of a signature by a key, by what it takes to check it.
func cost(k *packet.PublicKey) int {
	if k == nil {
		return 0
	}
	switch curve, err := k.Curve(); {
	case err != nil:
	case curve == packet.CurveSecP256k1, curve == packet.CurveBrainpoolP256:
		return 20
	case curve == packet.CurveBrainpoolP384, curve == packet.CurveBrainpoolP512:
		return 60
	case curve == packet.CurveNistP384, curve == packet.CurveNistP521, curve == packet.Curve448:
		return 8
	}
	switch bits, err := k.BitLength(); {
	case err != nil:
		return 1
	case k.PubKeyAlgo == packet.PubKeyAlgoDSA:
		return 10
	case bits > 4096:
		return 1 + int(bits)*int(bits)/(4096*4096)*2
	}
	return 1
}

// spent reports whether no work is left.
func (at At) spent() bool { return at.Work != nil && *at.Work <= 0 }

// charge takes what it takes to judge a certificate off the work that is left. One that is
// beyond it is told, and not judged; nobody asks for its parts then.
func (at At) charge(c *certificate, raw []byte) {
	c.raw = raw
	if !c.beyond {
		if k, ok := at.Seen.get(raw); ok {
			c.known, c.shunned = &k.key, k.shunned
			return
		}
	}
	c.open()
	if c.beyond || at.Work == nil {
		return
	}
	if *at.Work -= 1 + c.work(); *at.Work < 0 {
		c.beyond, c.direct, c.users, c.subkeys = true, nil, nil, nil
	}
}

// tooMuch is why a certificate is not judged.
const tooMuch = "it was not looked at: more keys stand on this root than are checked"

// Read describes the certificates in data, armoured, binary or in a keybox; Where and Scope
// are left to the caller. Certificates that gpg takes for nothing are told with why. Where
// something stands behind them that is none, or a private key among them, they are returned with
// an error.
func Read(data []byte, at At) ([]source.Key, error) {
	r := ReadAll([][]byte{data}, at)[0]
	if r.Private && r.Err == nil {
		return r.Keys, ErrSecret
	}
	return r.Keys, r.Err
}

// certificates takes a text apart, armoured, binary or a keybox. Where something stands behind
// them that is none they are returned with an error.
func certificates(data []byte, at At) ([]*certificate, error) {
	raw, damage := dearmor(data)
	if damage != nil && len(raw) == 0 {
		return nil, damage
	}
	var spoilt error
	if IsKeybox(raw) {
		if raw, spoilt = unbox(raw); len(raw) == 0 && spoilt != nil {
			return nil, spoilt
		}
	}
	if len(bytes.TrimSpace(raw)) == 0 || at.Imports && !begins(data) {
		return nil, ErrNoKey
	}
	list, err := split(raw, at)
	if err == nil {
		err = spoilt
	}
	if err == nil && damage != nil { // the last of them is not at its end yet, for gpg
		if err = damage; len(list) > 0 {
			list[len(list)-1].broken = true
		}
	}
	switch {
	case len(list) == 0 && err != nil:
		return nil, fmt.Errorf("%w: %v", ErrNoKey, err)
	case len(list) == 0:
		return nil, ErrNoKey
	}
	return list, err
}

// tell describes a certificate, and remembers what it said. err is what ended the stream that
// it stands in, for the program that reads it.
func (at At) tell(c *certificate, err error, program string) source.Key {
	k := c.describe(at.Now)
	if c.known == nil && !c.beyond {
		c.shunned = c.shun()
		at.Seen.put(c.raw, said{k, c.shunned})
	}
	if c.broken {
		k.Used, k.UnusedBecause = false, program+" cannot read it: "+err.Error()
	}
	return k
}

// ring is a text with certificates, taken apart, and what they say.
type ring struct {
	list []*certificate
	keys []source.Key
	err  error // what ended the stream
}

// private reports whether a private key was found in it.
func (r *ring) private() bool {
	return slices.ContainsFunc(r.list, func(c *certificate) bool { return c.secret })
}

// shadow marks the keys of a keyring of which a private one is found first.
func (r *ring) shadow(program string) {
	first := map[string]bool{} // fingerprint → what stands there first is private
	for n := range r.keys {
		k := &r.keys[n]
		if _, had := first[k.Fingerprint]; !had {
			first[k.Fingerprint] = r.list[n].private
		}
		if k.Used && first[k.Fingerprint] {
			k.Used, k.UnusedBecause = false, program+" finds the private key first, and takes no signature by that"
		}
	}
}

// rings takes texts apart in order, since the work is bounded, and describes all of their
// certificates side by side: most of the work is to check the signatures that they make on
// themselves. Equal texts are read once.
func rings(texts [][]byte, at At, program string, apart func([]byte, At) ([]*certificate, error)) []ring {
	out := make([]ring, len(texts))
	first := make(map[string]int, len(texts)) // text → where it stands first
	type place struct{ ring, n int }
	var todo []place
	for i, text := range texts {
		if _, ok := first[string(text)]; ok {
			continue
		}
		first[string(text)] = i
		r := &out[i]
		r.list, r.err = apart(text, at)
		r.keys = make([]source.Key, len(r.list))
		for n := range r.list {
			todo = append(todo, place{i, n})
		}
	}
	inParallel(len(todo), func(i int) {
		r, n := &out[todo[i].ring], todo[i].n
		r.keys[n] = at.tell(r.list[n], r.err, program)
	})
	for i, text := range texts {
		if j := first[string(text)]; j != i {
			out[i] = ring{out[j].list, slices.Clone(out[j].keys), out[j].err}
		}
	}
	return out
}

// mostAhead is the work that Ahead does at most, beside what at leaves: a plain host's keys.
const mostAhead = 200

// Ahead begins to describe the certificates that stand in texts, beside whatever else is done, so
// that they are known once somebody asks for them. The returned function waits for the end; until
// then nobody else may read with at.
func (at At) Ahead(texts [][]byte) (wait func()) {
	if at.Seen == nil {
		return func() {} // nothing would be remembered
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		work := mostAhead
		at.Work = &work
		rings(texts, at, "gpg", certificates)
	}()
	return func() { <-done }
}

// Placed is a key with the place where it begins in a stream of packets.
type Placed struct {
	source.Key
	At int
}

// Ring is what gpgv finds in one stream of packets.
type Ring struct {
	Keys    []Placed
	Err     error
	Private bool // a private key stands in it
}

// ReadRings reads streams of packets as gpgv does its keyrings: what is no packet makes the
// certificate unusable that it stands in or behind, and nothing after it is found. At a private key
// that it finds first gpgv ends.
func ReadRings(raws [][]byte, at At) []Ring {
	out := make([]Ring, len(raws))
	for i, r := range rings(raws, at, "gpgv", split) {
		out[i] = Ring{Keys: make([]Placed, len(r.keys)), Err: r.err, Private: r.private()}
		r.shadow("gpgv")
		for n, key := range r.keys {
			out[i].Keys[n] = Placed{key, r.list[n].at}
		}
	}
	return out
}

// ReadWhole reads key files as sqv does: an error is that of the whole file, of which sqv then
// takes nothing.
func ReadWhole(texts [][]byte, at At) []Result {
	out := make([]Result, len(texts))
	for i, r := range rings(texts, at, "sqv", whole) {
		out[i] = Result{r.keys, r.err, r.private()}
		for n, c := range r.list {
			if k := &r.keys[n]; k.Used && c.shunned != "" {
				k.Used, k.UnusedBecause = false, c.shunned
			}
		}
	}
	return out
}

// Result is what Read says of one text.
type Result struct {
	Keys    []source.Key
	Err     error
	Private bool // a private key stands in it
}

// ReadAll is Read for many texts, side by side.
func ReadAll(texts [][]byte, at At) []Result {
	out := make([]Result, len(texts))
	for i, r := range rings(texts, at, "gpg", certificates) {
		if !at.Imports {
			r.shadow("gpg")
		}
		if out[i].Err, out[i].Private = r.err, r.private(); len(r.keys) > 0 {
			out[i].Keys = r.keys
		}
	}
	return out
}

// inParallel calls do with 0 to n-1, on every processor.
func inParallel(n int, do func(i int)) {
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), n) {
		group.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	group.Wait()
}

// Describe tells what a certificate says of itself.
func Describe(e *openpgp.Entity) source.Key {
	var raw bytes.Buffer
	if err := e.Serialize(&raw); err == nil {
		if list, _ := split(raw.Bytes(), At{}); len(list) > 0 {
			return list[0].describe(time.Time{})
		}
	}
	return source.Key{Fingerprint: Fingerprint(e), UserIDs: []string{}, Subkeys: []source.Subkey{}}
}

// newestSelfSignature returns the one made last of the signatures of a certificate over
// itself or over any of its user ids.
func newestSelfSignature(e *openpgp.Entity) *packet.Signature {
	newest := e.SelfSignature
	for _, id := range e.Identities {
		if s := id.SelfSignature; s != nil && (newest == nil || s.CreationTime.After(newest.CreationTime)) {
			newest = s
		}
	}
	return newest
}

func expiry(k *packet.PublicKey, seconds *uint32) *time.Time {
	if seconds == nil || *seconds == 0 {
		return nil
	}
	t := k.CreationTime.Add(time.Duration(*seconds) * time.Second).UTC()
	return &t
}

// Fingerprint returns a certificate's primary fingerprint, upper-case hex.
func Fingerprint(e *openpgp.Entity) string {
	return strings.ToUpper(hex.EncodeToString(e.PrimaryKey.Fingerprint))
}

// curves are gpg's words for curves of ECDSA, by the library's.
var curves = map[packet.Curve]string{
	packet.CurveNistP256: "nistp256", packet.CurveNistP384: "nistp384", packet.CurveNistP521: "nistp521",
	packet.CurveBrainpoolP256: "brainpoolP256r1", packet.CurveBrainpoolP384: "brainpoolP384r1", packet.CurveBrainpoolP512: "brainpoolP512r1",
	packet.CurveSecP256k1: "secp256k1", packet.Curve25519: "ed25519", packet.Curve448: "ed448",
}

// algorithm names a key's algorithm as gpg's listings do: rsa4096, ed25519, nistp256.
func algorithm(k *packet.PublicKey) string {
	name := map[packet.PublicKeyAlgorithm]string{
		packet.PubKeyAlgoRSA: "rsa", packet.PubKeyAlgoRSAEncryptOnly: "rsa", packet.PubKeyAlgoRSASignOnly: "rsa",
		packet.PubKeyAlgoDSA: "dsa", packet.PubKeyAlgoElGamal: "elg",
	}[k.PubKeyAlgo]
	if name != "" {
		bits, err := k.BitLength()
		if err != nil {
			return name
		}
		return fmt.Sprintf("%s%d", name, bits)
	}
	if curve, err := k.Curve(); err == nil {
		if name := curves[curve]; name != "" {
			return name
		}
	}
	return fmt.Sprintf("algorithm %d", k.PubKeyAlgo)
}
