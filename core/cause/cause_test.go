package cause_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/cause"
)

// said is what the programs have said.
var said = []struct {
	message string
	kind    cause.Kind
}{
	{"Release file for http://127.0.0.1:36573/m.example/dists/rolling/InRelease is expired (invalid since 23d 1h 0min 0s). Updates for this repository will not be applied.", cause.Expired},
	{"Release file for http://127.0.0.1/InRelease is not valid yet (invalid for another 2h). Updates for this repository will not be applied.", cause.Future},
	{"The following signatures couldn't be verified because the public key is not available: NO_PUBKEY 0749F720CB2DE5D9", cause.UnknownKey},
	{"The following signatures were invalid: EXPKEYSIG 0749F720CB2DE5D9 Plover", cause.EndedKey},
	{"The following signatures were invalid: BADSIG 0749F720CB2DE5D9 Plover", cause.BadSignature},
	{"The repository 'http://127.0.0.1:404/apt stable InRelease' is not signed.", cause.Unsigned},
	{"The repository 'http://127.0.0.1:404/apt nosuch Release' does not have a Release file.", cause.Missing},
	{"Sub-process /usr/bin/sqv returned an error code (1), error message is: Missing key 2F10C783D199337B0D44B8F7B97FE32E0E74A5D1, which is needed to verify signature.", cause.UnknownKey},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: Sub-process /usr/bin/sqv returned an error code (1), error message is: Verifying signature: Message has been manipulated", cause.BadSignature},
	{"Verifying signature: Policy rejected non-revocation signature (Text) requiring collision resistance because: SHA1 is not considered secure since 2013-02-01T00:00:00Z", cause.BadSignature},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: Sub-process /usr/bin/sqv returned an error code (1), error message is: Signing key on 4C9CD7040CC19FDF39C3BD652D70528B2A32BA81 is not bound: Policy rejected asymmetric algorithm because: DSA2048 is not considered secure since 2024-02-01T00:00:00Z", cause.WeakKey},
	{"Signing key on 7D576D0E35F6D325689AF2C290395F1996C995AC is bad: Invalid key: \"certificate is revoked\"", cause.EndedKey},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: Sub-process /usr/bin/sqv returned an error code (1), error message is: Error: Malformed certificate in keyring \"/etc/apt/keyrings/a.asc\" Caused by: Invalid ASCII Armor footer.", cause.KeyFile},
	{"Error: Failed to parse keyring \"/etc/apt/keyrings/a.asc\" Caused by: 0: Reading \"/etc/apt/keyrings/a.asc\": No such file or directory (os error 2)", cause.KeyFile},
	{"The signatures couldn't be verified because no keyring is specified", cause.KeyFile},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: The following signatures were invalid: BADSIG FA0200E9A2A4382E A <a@saltmarsh.example>", cause.BadSignature},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: The following signatures were invalid: 7C9DEDDCBD90D2310EE3C78EBB9C9F297D7458DE (untrusted public key algorithm: rsa1024)", cause.WeakKey},
	{"GPG error: file:/srv/r x InRelease: The following signatures were invalid: 6115EB8F2640297BEC59D1A7FA0200E9A2A4382E (untrusted digest algorithm: SHA1)", cause.BadSignature},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: The following signatures were invalid: REVKEYSIG 35B181338A53DA27 R <r@saltmarsh.example>", cause.EndedKey},
	{"OpenPGP signature verification failed: file:/srv/r x InRelease: The following signatures couldn't be verified because the public key is not available: NO_PUBKEY FA0200E9A2A4382E", cause.UnknownKey},
	{"401  Unauthorized [IP: 127.0.0.1 36573]", cause.Unauthorised},
	{"403  Forbidden [IP: 10.0.0.4 80]", cause.Unauthorised},
	{"404  Not Found [IP: 127.0.0.1 40180]", cause.Missing},
	{"Connection failed [IP: 127.0.0.1 40180]", cause.Unreachable},
	{"Could not connect to 127.0.0.1:1 (127.0.0.1). - connect (111: Connection refused)", cause.Unreachable},
	{"Temporary failure resolving 'nowhere.example.invalid'", cause.Unresolved},
	{"File has unexpected size (12 != 14). Mirror sync in progress? [IP: 127.0.0.1 1]", cause.Mismatch},
	{"Hash Sum mismatch", cause.Mismatch},
	{"Certificate verification failed: The certificate is NOT trusted.", cause.TLS},
	{"Could not get lock /var/lib/apt/lists/lock. It is held by process 4711 (apt-get)", cause.Locked},
	{"Error writing to output file - write (28: No space left on device)", cause.Full},

	{"Status code: 401 for http://127.0.0.1:7999/a/repodata/repomd.xml (IP: 127.0.0.1)", cause.Unauthorised},
	{"Status code: 404 for http://127.0.0.1:7999/b/repodata/repomd.xml (IP: 127.0.0.1)", cause.Missing},
	{"Status code: 503 for http://127.0.0.1:7999/b/repodata/repomd.xml (IP: 127.0.0.1)", cause.Server},
	{"Curl error (56): Failure when receiving data from the peer for https://127.0.0.1:7902/x/repodata/repomd.xml [CONNECT tunnel failed, response 501]", cause.Proxy},
	{"Invalid response from proxy: HTTP/1.0 501 Unsupported method ('CONNECT')  Server: BaseHTTP/0.6  Connection: close     [IP: 127.0.0.1 9998]", cause.Proxy},
	{"Curl error (7): Couldn't connect to server for http://127.0.0.1:1/repodata/repomd.xml [Failed to connect to 127.0.0.1 port 1 after 0 ms: Couldn't connect to server]", cause.Unreachable},
	{"Curl error (6): Couldn't resolve host name for http://nowhere.example.invalid/repodata/repomd.xml [Could not resolve host: nowhere.example.invalid]", cause.Unresolved},
	{"Curl error (35): SSL connect error for https://127.0.0.1:7999/a/repodata/repomd.xml [gnutls_handshake() failed]", cause.TLS},
	{"Curl error (28): Timeout was reached for http://10.0.0.1/repodata/repomd.xml [Operation too slow. Less than 1000 bytes/sec]", cause.Slow},
	{"Curl error (52): Server returned nothing (no headers, no data) for http://127.0.0.1/x [Empty reply from server]", cause.Cut},
	{"Failed to download metadata for repo 'saltmarsh': repomd.xml GPG signature verification error: Bad GPG signature", cause.UnknownKey},

	{"Login failed. (http://127.0.0.1:36573/rpm/content): The requested URL returned error: 401", cause.Unauthorised},
	{"Signature verification failed for repomd.xml; Can't provide /repodata/repomd.xml", cause.UnknownKey},
	{"Download (curl) error for 'http://127.0.0.1:1/content': Error code: Connection failed Error message: Failed to connect to 127.0.0.1 port 1", cause.Unreachable},
	{"Error code: Connection failed Error message: Could not resolve host: nowhere.example.invalid", cause.Unresolved},
	{"Error code: Curl error 35 Error message: OpenSSL/3.0.19: error:0A00010B:SSL routines::wrong version number", cause.TLS},
	{"File './repodata/0b3bc9b26eee68b60fea18b5d77f7dfb79553903ed4b6f4c3d6cbc344080a164-primary.xml.gz' not found on medium 'http://127.0.0.1/'", cause.Missing},
	{"System management is locked by the application with pid 12 (zypper).", cause.Locked},

	{"The requested URL returned error: 404", cause.Missing},
	{"The requested URL returned error: 403", cause.Unauthorised},
	{"Could not resolve host: nowhere.example.invalid", cause.Unresolved},
	{"Failed to connect to 127.0.0.1 port 1 after 0 ms: Couldn't connect to server", cause.Unreachable},
	{"signature from \"Fulmar Builds <builds@fulmar.example>\" is unknown trust", cause.UnknownKey},
	{"signature from \"Fulmar Builds <builds@fulmar.example>\" is invalid", cause.BadSignature},
	{"invalid or corrupted database (PGP signature)", cause.BadSignature},
	{"missing required signature", cause.Unsigned},
	{"failed to init transaction (unable to lock database)", cause.Locked},

	{"Unable to load summary from remote curlew: Signature made Thu Nov 26 01:02:17 2026 using EdDSA key ID 0749F720CB2DE5D9 Can't check signature: public key not found", cause.UnknownKey},
	{"Unable to load summary from remote curlew: Server returned status 401", cause.Unauthorised},
	{"While fetching http://127.0.0.1/repo/summary.sig: [52] Server returned nothing (no headers, no data)", cause.Cut},
	{"Unable to load summary from remote curlew: GPG verification enabled, but no summary signatures found", cause.Unsigned},
}

// The words are those that the programs have said.
func TestEveryProgramsWordsLeadToACause(t *testing.T) {
	for _, x := range said {
		got, known := cause.Of(x.message)
		assert.True(t, known, x.message)
		assert.Equal(t, x.kind, got.Kind, x.message)
		assert.NotEmpty(t, got.Remedy)
	}
	got, _ := cause.Of("NO_PUBKEY 0749F720CB2DE5D9")
	assert.Contains(t, got.Says, "(0749F720CB2DE5D9)")
	_, known := cause.Of("the sea is calm")
	assert.False(t, known)
}

// Where something was fetched from is not why it could not be: ports, sums, names of
// servers and dates make no cause.
func TestAnAddressIsNoCause(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		port := rapid.SampledFrom([]string{"401", "403", "404", "407", "503", "40393", "50004"}).Draw(t, "port")
		name := rapid.SampledFrom([]string{"tls", "ssl-mirror", "expired", "lock", "signature"}).Draw(t, "name")
		message := "http://" + name + ".example:" + port + "/404/not-found/" + name + " [IP: 10.0.0.7 " + port + "]"
		if c, known := cause.Of(message); known {
			t.Fatalf("%q is taken for %s", message, c.Kind)
		}
	})
}

// The names of files that a message names on its way are drawn at random by the programs;
// whatever they spell, the cause stays what it is.
func TestAPathIsNoCause(t *testing.T) {
	words := []string{"ssl", "tls", "404", "401", "503", "badsig", "unsigned", "expired", "locked", "timeout", "407", "Owg", "Q7"}
	rapid.Check(t, func(t *rapid.T) {
		x := rapid.SampledFrom(said).Draw(t, "message")
		name := strings.Join(rapid.SliceOfN(rapid.SampledFrom(words), 1, 4).Draw(t, "name"), rapid.SampledFrom([]string{"", "-", ".", "_"}).Draw(t, "between"))
		path := rapid.SampledFrom([]string{"/var/tmp/TmpFile.", "/var/cache/", "./repodata/", "../"}).Draw(t, "folder") + name
		message := fmt.Sprintf(rapid.SampledFrom([]string{
			"error: %s: key 1 import failed.; %s", "could not read %s; %s", "looking into '%s'. %s",
		}).Draw(t, "frame"), path, x.message)
		if got, _ := cause.Of(message); got.Kind != x.kind {
			t.Fatalf("%q is taken for %s, not %s", message, got.Kind, x.kind)
		}
	})
}
