package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
)

// What a host was given once is hidden in what programs say, also by an agent that was started since: it knows it from
// the files alone.
func TestWhatAHostWasGivenIsHiddenAfterAStart(t *testing.T) {
	const place = "https://apt.gannet.example/licensed"
	files := map[string][]source.AccessFile{
		credential.Basic: append(append(append(deb.Access("gannet", []string{place}), rpm.Access("gannet", credential.Basic)...),
			zypp.Access("gannet", credential.Basic)...), arch.Access("gannet-packages", "gannet", place)...),
		credential.TokenURL: append(rpm.Access("gannet", credential.TokenURL), zypp.Access("gannet", credential.TokenURL)...),
	}
	letters := []string{"a", "Z", "7", "=", "==", "$", "-", "_", ".", "~", "+", "&", "@", ":", "!", "'"}
	rapid.Check(t, func(rt *rapid.T) {
		word := strings.Join(rapid.SliceOfN(rapid.SampledFrom(letters), 6, 12).Draw(rt, "secret"), "")
		kind := rapid.SampledFrom([]string{credential.Basic, credential.TokenURL}).Draw(rt, "kind")
		file := rapid.SampledFrom(files[kind]).Draw(rt, "file")
		secret := credential.Secret{Kind: kind, Login: "gw-01", Password: word, Token: word}
		if file.Form == credential.FormLogin { // is told
			return
		}
		text, err := secret.Write(file)
		require.NoError(rt, err)
		h, _ := host(t, t.TempDir())
		defer h.Close()
		require.NoError(rt, os.MkdirAll(filepath.Dir(h.Root+file.Path), 0o755))
		require.NoError(rt, os.WriteFile(h.Root+file.Path, []byte(text), 0o600))
		require.NoError(rt, h.saveJSON(accessName, accessMemory{Files: []accessFile{{Account: "gannet", Path: file.Path}}}))
		h.Survey()
		for _, said := range []string{word, strings.TrimSpace(text), "http://apt.gannet.example/" + word + "/x: 404"} {
			if got := h.clean("E: " + said + " failed"); strings.Contains(got, word) {
				rt.Fatalf("%s: %s", file.Path, got)
			}
		}
		if file.Form == credential.FormToken {
			url := "http://apt.gannet.example/" + strings.TrimSpace(text) + "/x"
			if got := h.clean(fmt.Sprintf("Status code: 404 for %s (IP: 127.0.0.1)", url)); strings.Contains(got, strings.TrimSpace(text)) {
				rt.Fatalf("%s: %s", file.Path, got)
			}
		}
	})
}
