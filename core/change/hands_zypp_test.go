package change_test

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
)

const (
	halyardFile = "etc/zypp/repos.d/halyard.repo"
	halyard     = "# Halyard's own\n[oss]\nname=Halyard\nbaseurl=http://archive.halyard.example/$releasever/\nenabled=1\nautorefresh=1\ngpgcheck=1\nrepo_gpgcheck=1\n" +
		"gpgkey=file:///etc/keys/halyard.asc\npriority=90\n\n[update]\nname=Updates\nmirrorlist=https://mirrors.halyard.example/list\nenabled=1\ngpgcheck=1\n" +
		"gpgkey=file:///etc/keys/halyard.asc\n"
	zyppConf = "etc/zypp/zypp.conf"
	zyppLock = "etc/zypp/locks"
	zyppServ = "etc/zypp/services.d/desk.service"
)

// policysLock is what a policy writes into zypper's list.
const policysLock = "type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: saltmarsh-server\nversion: >= 9~~\ncomment: Patient Lantern: saltmarsh\n\n"

func zyppPlace(t *testing.T) place {
	s := &source.Sheet{Format: source.FormName(5), Family: zypp.Family, Unlisted: source.UnlistedReport, InPlace: []source.InPlace{
		{Repository: "base", Sections: []string{"oss", "update"}, Enabled: true},
	}, Locks: []source.SheetLock{{Repository: "saltmarsh", Package: "saltmarsh-server", Criteria: "version: >= 9~~"}}}
	files, src, keys, err := zypp.Render(saltmarsh("https://packages.saltmarsh.example/zypp/8.x"))
	require.NoError(t, err)
	s.Files, s.Sources, s.Keys = files, []source.SheetSource{src}, keys
	return place{sheet: s, files: tree{
		"etc/os-release": "ID=halyard\nID_LIKE=suse\nVERSION_ID=15\n", halyardFile: halyard,
		"etc/keys/halyard.asc": armoured(handKeys[1]), zyppConf: "[main]\nsolver.allowVendorChange = false\n",
		zyppLock: "type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: tern\n\n",
		zyppServ: "[desk]\nname=Desk\nenabled=1\nautorefresh=1\nurl=https://desk.halyard.example/service\ntype=ris\n",
	}}
}

func TestWhatHandsDoToZypper(t *testing.T) {
	somebody := armoured(handKeys[3])
	const salt = "etc/zypp/repos.d/saltmarsh.repo"
	hands(t, zyppPlace(t), []hand{
		{does: "no check", file: halyardFile, from: "gpgcheck=1\nrepo_gpgcheck=1", text: "gpgcheck=0\nrepo_gpgcheck=0", want: "checks-weakened danger", field: "signature check, signature check of packages", at: "/etc/zypp/repos.d/halyard.repo:2"},
		{does: "sources from elsewhere", file: zyppConf, from: "[main]\n", text: "[main]\nreposdir = /srv/x\n", want: "setting-changed fault", field: "main.reposdir"},
		{does: "all from elsewhere", file: zyppConf, from: "[main]\n", text: "[main]\nconfigdir = /srv/x\n", want: "setting-changed fault", field: "main.configdir"},
		{does: "elsewhere", file: halyardFile, from: "archive.halyard.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "other mirrors", file: halyardFile, from: "mirrors.halyard.example", text: "elsewhere.example", want: "changed-source danger", field: "list of mirrors"},
		{does: "no certificates", file: halyardFile, from: "$releasever/", text: "$releasever/?ssl_verify=no", want: "changed-source danger", field: "URL"},
		{does: "a keyring for all of gpg", file: "etc/gnupg/gpg.conf", text: "keyring /srv/keys\n", want: "setting-weakened danger", field: "keyring /srv/keys"},
		{does: "another priority", file: halyardFile, from: "priority=90", text: "priority=1", want: "changed-source fault", field: "priority"},
		{does: "off", file: halyardFile, from: "enabled=1", text: "enabled=0", want: "switched-off fault", field: "enabled"},
		{does: "another path", file: halyardFile, from: "priority=90", text: "priority=90\npath=/x", want: "changed-source danger", field: "path"},
		{does: "another key", file: halyardFile, from: "keys/halyard.asc", text: "keys/other.asc", want: "changed-source danger", field: "signing keys"},
		{does: "the file gone", file: halyardFile, text: "-", want: "missing-file fault", field: "source"},
		{does: "a new source", file: "etc/zypp/repos.d/new.repo", text: "[new]\nbaseurl=http://new.example/\nenabled=1\n", want: "unlisted-source note", field: "source", stays: true},
		{does: "a new source unchecked", file: "etc/zypp/repos.d/new.repo", text: "[new]\nbaseurl=http://new.example/\nenabled=1\ngpgcheck=0\n", want: "unlisted-source danger", field: "source", stays: true},
		{does: "the policy's elsewhere", file: salt, from: "packages.saltmarsh.example", text: "elsewhere.example", want: "changed-source danger", field: "URL"},
		{does: "one of the policy's name that is read first", file: "etc/zypp/repos.d/a.repo", text: "[saltmarsh]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n",
			want: "doubled-source danger", field: "source", hides: true},
		{does: "the same, and off", file: "etc/zypp/repos.d/a.repo", text: "[saltmarsh]\nname=x\nbaseurl=http://elsewhere.example/x\nenabled=0\n",
			want: "doubled-source fault", field: "source", hides: true},
		{does: "another section above the policy's", file: salt, from: "[saltmarsh]", text: "[reed]\nname=Reed\nbaseurl=http://elsewhere.example/x\nenabled=1\ngpgcheck=0\n[saltmarsh]",
			want: "unlisted-source danger", field: "source"},
		{does: "the policy's by another name", file: salt, from: "[saltmarsh]", text: "[reed]", want: "changed-source fault", field: "name"},
		{does: "the policy's off", file: salt, from: "enabled=1", text: "enabled=0", want: "switched-off fault", field: "enabled"},
		{does: "anybody may write", file: halyardFile, mode: 0o646, want: "changed-mode danger", field: "mode"},
		{does: "a key beside the distribution's", file: "etc/keys/halyard.asc", from: "-----BEGIN", text: somebody + "\n-----BEGIN", want: "key-added danger", field: "key"},
		{does: "a lock", file: zyppLock, from: "type: package", text: "type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: sedge\n\ntype: package", want: "hold-changed fault", field: "lock"},
		{does: "a lock of all packages", file: zyppLock, from: "type: package", text: "type: package\n\ntype: package", want: "hold-changed fault", field: "lock"},
		{does: "a lock of one repository", file: zyppLock, from: "type: package", text: "repo: halyard\nmatch_type: exact\nsolvable_name: sedge\n\ntype: package", want: "hold-changed fault", field: "lock"},
		{does: "a lock of one series", file: zyppLock, from: "type: package", text: "version: >= 2\ntype: package", want: "hold-changed fault", field: "lock"},
		{does: "a lock of what is provided", file: zyppLock, from: "type: package", text: "solvable_provides: sedge\n\ntype: package", want: "hold-changed fault", field: "lock"},
		{does: "the policy's lock gone", file: zyppLock, from: policysLock, want: "hold-changed fault", field: "lock"},
		{does: "the policy's lock for a later series", file: zyppLock, from: ">= 9~~", text: ">= 10~~", want: "hold-changed fault", field: "lock"},
		{does: "the policy's lock for another package", file: zyppLock, from: "saltmarsh-server", text: "saltmarsh-client", want: "hold-changed fault", field: "lock"},
		{does: "no lock", file: zyppLock, from: "type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: tern\n\n", want: "hold-changed fault", field: "lock"},
		{does: "a service elsewhere", file: zyppServ, from: "desk.halyard.example", text: "elsewhere.example", want: "service-changed fault", field: "service"},
		{does: "a service off", file: zyppServ, from: "enabled=1", text: "enabled=0", want: "service-changed fault", field: "service"},
		{does: "a service that need not prove who it is", file: zyppServ, from: "example/service", text: "example/service?ssl_verify=no",
			want: "service-changed danger", field: "service"},
		{does: "a service whose name is not checked", file: zyppServ, from: "example/service", text: "example/service?a=b&ssl_verify=peer",
			want: "service-changed danger", field: "service"},
		{does: "a new service", file: "etc/zypp/services.d/new.service", text: "[new]\nenabled=1\nurl=http://new.example/\ntype=ris\n", want: "service-changed fault", field: "service"},
		{does: "no check by default", file: zyppConf, from: "[main]\n", text: "[main]\ngpgcheck = off\n", want: "setting-weakened danger", field: "main.gpgcheck"},
		{does: "vendors may change", file: zyppConf, from: "= false", text: "= true", want: "setting-changed fault", field: "main.solver.allowVendorChange"},

		{does: "a comment", file: halyardFile, from: "# Halyard's own", text: "# see the wiki"},
		{does: "another title", file: halyardFile, from: "name=Updates", text: "name=What is new"},
		{does: "not refreshed by itself", file: halyardFile, from: "autorefresh=1", text: "autorefresh=0", want: "changed-source fault", field: "autorefresh"},
		{does: "nor what the policy gives", file: salt, from: "autorefresh=1", text: "autorefresh=off", want: "changed-source fault", field: "autorefresh"},
		{does: "refreshed by itself, in another word", file: halyardFile, from: "autorefresh=1", text: "autorefresh=on"},
		{does: "refreshed by itself though it was not", file: halyardFile, from: "name=Updates\n", text: "name=Updates\nautorefresh=1\n"},
		{does: "packages are kept", file: halyardFile, from: "enabled=1", text: "enabled=1\nkeeppackages=1"},
		{does: "another spelling", file: halyardFile, from: "enabled=1", text: "enabled=yes"},
		{does: "blanks in zypp.conf", file: zyppConf, from: "solver.allowVendorChange = false", text: "solver.allowVendorChange=false"},
		{does: "more connections", file: zyppConf, from: "[main]\n", text: "[main]\ndownload.max_concurrent_connections = 5\n"},
		{does: "the list as zypper writes it", file: zyppLock, text: "\ntype: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: tern\n\n\n" +
			"type: package\nversion: >= 9~~\nmatch_type: glob\ncase_sensitive: on\ncomment: Patient Lantern: saltmarsh\nsolvable_name: saltmarsh-server\n\n\n"},
		{does: "the same lock in other words", file: zyppLock, from: "type: package", text: "type: Package\ntype: pattern"},
		{does: "a comment among the locks", file: zyppLock, from: "type: package", text: "# ours\ntype: package"},
	})
}

// A service that somebody has made safe stays so, whatever else of its file is put back.
func TestAServiceThatIsCheckedAgainStaysSo(t *testing.T) {
	p := zyppPlace(t)
	p.files[zyppServ] = strings.Replace(p.files[zyppServ], "example/service", "example/service?ssl_verify=no", 1)
	p = p.carried(t)
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	told := func(files tree) (out []string) {
		now := look(files, p.modes, p.sheet)
		for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &now.Survey, Base: base}) {
			if f.Class == drift.ServiceChanged {
				out = append(out, f.Severity)
			}
		}
		return out
	}
	assert.Equal(t, []string{drift.Danger}, told(p.files), "it was so when the policy came")
	safe := maps.Clone(p.files)
	safe[zyppServ] = strings.Replace(safe[zyppServ], "?ssl_verify=no", "", 1)
	assert.Equal(t, []string{drift.Note}, told(safe))
	safe[zyppServ] = strings.Replace(safe[zyppServ], "desk.halyard", "elsewhere", 1)
	assert.Equal(t, []string{drift.Fault}, told(safe))
	now := look(safe, p.modes, p.sheet)
	plan := change.Compute(change.Input{
		Sheet: p.sheet, Survey: &now.Survey, Texts: now.Texts, Before: p.sheet, Kept: before.Texts, Base: base, Stood: before.Texts,
	})
	for _, e := range plan.Edits {
		assert.NotEqual(t, "/"+zyppServ, e.Path)
	}
}
