// Package cause tells from the words of a package manager why it could not refresh a
// source, and what is to be done about it. apt, dnf, zypper, pacman and flatpak each have
// words of their own; they are asked for real in the tests of the agent.
package cause

import (
	"regexp"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/text/pattern"
)

// Kind is a kind of cause. Its name is stable.
type Kind string

// Elsewhere reports whether a cause may be that of whoever looked alone: others stand elsewhere in
// the network.
func (k Kind) Elsewhere() bool {
	return slices.Contains([]Kind{Unreachable, Unresolved, Slow, Cut, TLS, Proxy, Server}, k)
}

// The kinds.
const (
	Unauthorised Kind = "unauthorised"  // the server lets nobody in without another login
	Unreachable  Kind = "unreachable"   // no connection
	Unresolved   Kind = "unresolved"    // the name is not known
	Slow         Kind = "slow"          // it takes too long
	Cut          Kind = "cut"           // the connection breaks off
	TLS          Kind = "tls"           // the server's certificate, or the handshake
	Proxy        Kind = "proxy"         // what stands in between
	Expired      Kind = "expired"       // the metadata is of long ago
	Future       Kind = "future"        // the metadata is of a time to come: a clock is wrong
	UnknownKey   Kind = "unknown-key"   // signed by a key that is not trusted for the source
	BadSignature Kind = "bad-signature" // what was signed is not what came
	EndedKey     Kind = "ended-key"     // signed by a key that has ended or was revoked
	Unsigned     Kind = "unsigned"      // no signature
	WeakKey      Kind = "weak-key"      // signed by a key that the host takes for too weak
	KeyFile      Kind = "key-file"      // a file of keys that whoever checks cannot read
	Missing      Kind = "missing"       // it is not there (404)
	Mismatch     Kind = "mismatch"      // sums do not fit: the upstream is being changed
	Full         Kind = "disk-full"
	ReadOnly     Kind = "read-only"
	Locked       Kind = "locked" // another package manager is at work
	Server       Kind = "server" // the server is ill (5xx)

	NotMetadata Kind = "not-metadata" // something else came, or what cannot be read

	// Only a look at an upstream tells these: package managers have no words for them.
	Replayed   Kind = "replayed"   // older than what was seen before
	TooLarge   Kind = "too-large"  // more than any repository has
	Redirected Kind = "redirected" // it leads to where nothing is fetched from
)

// Meaning is why a source could not be refreshed.
type Meaning struct {
	Kind   Kind   `json:"kind"`
	Says   string `json:"says" doc:"In a few words"`
	Remedy string `json:"remedy" doc:"What to do"`
}

// rule is one row of the table: what a message matches, and what that means.
type rule struct {
	kind   Kind
	match  func() *regexp.Regexp
	says   string
	remedy string
	narrow bool // of one program, so not what the kind means in general
}

func on(kind Kind, match, says, remedy string) rule {
	return rule{kind, pattern.Lazy(`(?i)` + match), says, remedy, false}
}

func narrow(r rule) rule {
	r.narrow = true
	return r
}

// table is looked through from the top: what is particular stands above what is general.
var table = []rule{
	on(Full, `no space left on device|not enough (?:free )?(?:disk )?space|disk (?:is )?full|disk quota exceeded|write error \(28`,
		"the host's disk is full", "make room on the host, then go on"),
	on(ReadOnly, `read-only file system`, "a file system of the host is read-only", "look why it was mounted so (dmesg), then go on"),
	on(Locked, `could not get lock|unable to lock|is locked by|waiting for process with pid|system management is locked|`+
		`unable to acquire .*lock|already locked by|another app is currently holding`,
		"another package manager is at work on the host", "wait until it has ended, or end it; then go on"),
	on(
		Proxy,
		`\b407\b|proxy authentication|could not resolve proxy|proxy connect|from proxy after connect|response from proxy|connect tunnel failed`,
		"the proxy in between refuses",
		"look at proxy: of the host's site in the policy, at the host's own setting (lantern host show), and at the proxy",
	),
	on(
		Unauthorised,
		`\b(?:status(?: code)?|code|error|answered|returned|http(?:/\d(?:\.\d)?)?):? *40[13]\b|`+
			`\b40[13] +(?:unauthori[sz]ed|forbidden|authorization)|`+
			`\b(?:authentication required|login failed|permission to access\b.*\bdenied)|does not let this host in`,
		"the vendor does not let the host in",
		"see whether it has a seat (lantern seat list), and whether its access still opens the place",
	),
	on(
		Unresolved,
		`could(?:n't| not) resolve(?: host)?|temporary failure (?:in name resolution|resolving)|name or service not known|no address associated|`+
			`name of the server is not known`,
		"the name of the server is not known to the host",
		"look at the name in the policy, and at the host's DNS",
	),
	on(Future, `not valid yet|from the future|certificate is not yet valid|signature [^;]*(?:newer|future)`,
		"the metadata is of a time to come for the host", "set the host's clock (timedatectl)"),
	on(Expired, `release file .* is expired|invalid since|metadata .*(?:expired|too old)|is expired \(`,
		"the metadata has ended", "the vendor has to publish anew; ask them, or hold the rollout until they have"),
	on(
		EndedKey,
		`expkeysig|revkeysig|\bkey (?:has )?(?:expired|is revoked)|expired key|revoked key|signature [^;]* (?:is )?expired|key [^;]* is expired`,
		"it is signed by a key that has ended",
		"get the vendor's next key, and add it with succeeds:",
	),
	on(
		KeyFile,
		`(?:failed to parse|malformed certificate in) keyring|no keyring is specified`,
		"a file of keys on the host cannot be read by whoever checks signatures there",
		"look at the host's keys (lantern drift, lantern host show): each key file has to be whole, and readable for everybody",
	),
	on(
		EndedKey,
		`signing key on \S+ [^;]*(?:is revoked|expired|not alive|not live)`,
		"it is signed by a key that has ended",
		"get the vendor's next key, and add it with succeeds:",
	),
	on(
		WeakKey,
		`signing key on \S+ is not bound|untrusted public key algorithm`,
		"it is signed by a key that the host takes for too weak, or that is not bound together well",
		"ask the vendor for a key of today (bound together with SHA-256, no DSA, no short RSA), and add it with succeeds:",
	),
	on(
		BadSignature,
		`message has been manipulated|policy rejected non-revocation signature|untrusted digest algorithm|\bbadsig\b|`+
			`at least one invalid signature|modified after it has been signed`,
		"the signature does not fit what came, or is made in a way that can be forged",
		"it may be a broken mirror, or somebody in between; ask the vendor before going on",
	),
	on(
		NotMetadata,
		`nosplit|clearsigned file isn't valid|parser error|valid metadata not found|unrecognized archive format|`+
			`truncated gzip input|doesn't contain public key data|gpgme(?:_op_verify\(\))? error: no data`,
		"what came is no metadata of packages",
		"open the address by hand: a sign-in page, or another address, is usual",
	),
	narrow(on(
		UnknownKey,
		`signature verification error: bad gpg signature`,
		"its signature is by a key that the policy does not name for it, or does not fit what came: dnf does not say which",
		"lantern repository probe shows which key signs there today; "+
			"find out from the vendor, and not from the mirror, whether it is theirs, and if so add it with succeeds:",
	)),
	on(
		UnknownKey,
		`no_pubkey|key id [0-9A-F]{8,40} *can't check|missing (?:key|openpgp)|`+
			`public key (?:is )?not (?:available|found|installed)|signature [^;]* unknown trust|`+
			`key [^;]* (?:could not be looked up|is unknown|is not trusted)|`+
			`signed with (?:an )?unknown key|no key .* installed|signature verification failed|signature verification error|`+
			`signature from .* is (?:unknown|marginal)`,
		"it is signed by a key that the policy does not name for it",
		"find out from the vendor, and not from the mirror, whether they have "+
			"a new key; if so add it with succeeds:, if not do not go on",
	),
	on(
		BadSignature,
		`badsig|bad (?:gpg )?signature|signature (?:from .* )?is invalid|invalid or corrupted database|corrupted.*pgp signature`,
		"the signature does not fit what came",
		"it may be a broken mirror, or somebody in between; ask the vendor before going on",
	),
	narrow(on(Missing, `but no summary found`,
		"it is not there, or the server does not let the host in: flatpak does not say which",
		"compare the address with what the vendor says today, and open it by hand")),
	on(Unsigned, `signature is not available: [^;]*\b404\b|its signature: [^;]*\b404\b|`+
		`is not signed|no (?:valid )?signature|missing required signature|gpg verification enabled, but no|unsigned`,
		"it is not signed", "ask the vendor; only where that is right, say signatures: off with because:"),
	on(
		Mismatch,
		`hash sum mismatch|has wrong checksum|checksum (?:mismatch|doesn't match|error)|does not match (?:expected|the expected)|`+
			`unexpected size|mirror sync in progress|`+
			`digest verification|file has unexpected`,
		"the sums do not fit: the upstream is being changed at this moment",
		"try again in some minutes",
	),
	on(TLS, `\b(?:open)?ssl(?:\b|_)|\btls(?:\b|_|v\d)|certificate|\bgnutls|\bx509\b`,
		"the server cannot prove who it is (TLS)", "look at its certificate, at authority: in the policy, and at the host's clock"),
	on(
		Missing,
		`\b404\b|not found|repository type can't be determined|does not have a release file|no such file|`+
			`failed to find|can't provide|`+
			`names no address|cannot download, all mirrors were already tried`,
		"it is not there: a part of the address is wrong, or the vendor has moved it",
		"compare url, suites and components with what the vendor says today",
	),
	on(Server, `\b50[0-9]\b|temporarily unaccessible|bad gateway|service unavailable|internal server error`,
		"the vendor's server is ill", "try again later"),
	on(
		Slow,
		`timed? ?out|too slow|takes too long|was broken off|took longer`,
		"it takes too long",
		"look at the network between, then try again",
	),
	on(
		Cut,
		`connection (?:reset|closed|was cut|breaks off)|cut off in the middle|empty reply|`+
			`server returned nothing|transfer closed|recv failure|partial file|unexpected eof|bytes remaining`,
		"the connection breaks off",
		"look at the network between, then try again",
	),
	on(
		Unreachable,
		`connection (?:failed|refused|timed)|could(?:n't| not) connect|failed to connect|`+
			`no route to host|network is unreachable|all mirrors were tried|`+
			`cannot be (?:reached|opened|asked for)|no address that can be looked at`,
		"the server cannot be reached",
		"look whether it is up, and whether the host may reach it (firewall, proxy)",
	),
}

// seen are the causes that a look at an upstream tells by itself.
var seen = map[Kind]Meaning{
	Replayed: {
		Says: "what came is older than what was seen before",
		Remedy: "it may be a mirror that lags, or somebody who plays back old " +
			"metadata: compare with the vendor before going on",
	},
	TooLarge: {Says: "what came is larger than any repository", Remedy: "ask the vendor; nothing of it was kept"},
	Redirected: {
		Says:   "the server leads elsewhere",
		Remedy: "see whether the vendor has moved, and say the new address in the policy",
	},
}

// About is what a kind of cause means.
func About(k Kind) Meaning {
	if m, ok := seen[k]; ok {
		m.Kind = k
		return m
	}
	for _, r := range table {
		if r.kind == k && !r.narrow {
			return Meaning{Kind: k, Says: r.says, Remedy: r.remedy}
		}
	}
	return Meaning{Kind: k, Says: string(k)}
}

// notWords are addresses and paths: their digits and names say nothing of an answer, and
// those of temporary files are drawn at random.
var notWords = pattern.Lazy(`(?i)\[IP: [^\]]*\]|[a-z][a-z0-9+.-]*://\S*|'\.{0,2}/[^']*'|"\.{0,2}/[^"]*"|` +
	`\b[0-9a-f]{64}\S*|(?:^|[\s(=])\.{0,2}/[^\s:;,]+|\b\S+:\d+\b`)

// named is how programs name the key of a signature.
var named = pattern.Lazy(`(?i)\b(?:no_pubkey|expkeysig|revkeysig|badsig|key id|missing key|key) +['"]?(?:0x)?([0-9A-F]{8,40})\b`)

// ofKeys are the causes of which the key is told.
var ofKeys = map[Kind]bool{UnknownKey: true, EndedKey: true, BadSignature: true}

// Of tells the cause that a message of a package manager stands for; false where its words
// are not known.
func Of(message string) (Meaning, bool) {
	words := notWords().ReplaceAllString(message, " ")
	for _, r := range table {
		if !r.match().MatchString(words) {
			continue
		}
		c := Meaning{Kind: r.kind, Says: r.says, Remedy: r.remedy}
		if key := named().FindStringSubmatch(words); key != nil && ofKeys[r.kind] {
			c.Says += " (" + strings.ToUpper(key[1]) + ")"
		}
		return c, true
	}
	return Meaning{}, false
}
