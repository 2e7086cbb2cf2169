package change_test

import "testing"

// One edit is one finding: what a package manager passes over, or gives up at, and what is gone with it.
func TestWhatHandsWriteTwice(t *testing.T) {
	const own, second = "etc/apt/sources.list.d/second.list", "etc/yum.repos.d/second.repo"
	hands(t, debPlace(), []hand{
		{does: "signed by other keys than before", file: own, text: "deb [signed-by=/usr/share/keyrings/skerry.asc] https://packages.saltmarsh.example/apt/8.x stable main\n",
			want: "refused fault", at: "/" + own + ":1", hides: true},
		{does: "trusted, unlike before", file: own, text: "deb [trusted=yes] https://packages.saltmarsh.example/apt/8.x stable main\n", want: "refused danger", at: "/" + own + ":1", hides: true},
	})
	hands(t, rpmPlace(), []hand{
		{does: "a line above all sections", file: forelandFile, from: "# Foreland's own\n", text: "x=y\n", want: "missing-source fault", field: "source", at: "/" + forelandFile + ":1"},
		{does: "a section that is not closed", file: forelandFile, from: "[base]", text: "[base", want: "missing-source fault", field: "source", at: "/" + forelandFile + ":2"},
		{does: "what is passed over", file: second, text: "[base]\nname=x\nbaseurl=http://elsewhere.example/\ngpgcheck=0\n", want: "doubled-source note", field: "source", at: "/" + second + ":1", stays: true},
		{does: "what does not switch off", file: second, text: "[base]\nenabled=0\n", want: "doubled-source note", field: "source", stays: true},
		{does: "the policy's, passed over", file: "etc/yum.repos.d/z.repo", text: "[saltmarsh]\nenabled=0\n", want: "doubled-source note", field: "source", stays: true},
	})
	hands(t, zyppPlace(t), []hand{
		{does: "a line above the policy's section", file: "etc/zypp/repos.d/saltmarsh.repo", from: "[", text: "baseurl=x\n[", want: "refused fault", at: "/etc/zypp/repos.d/saltmarsh.repo:3"},
	})
	hands(t, archPlace(), []hand{
		{does: "another name, which stands there", file: pacFile, from: "[extra]", text: "[core]", want: "missing-source fault", field: "source"},
		{does: "a section below that of its name", file: pacFile, from: "[extra]", text: "[core]\nServer = http://elsewhere.example/\n\n[extra]", want: "doubled-source note", field: "source", at: "/etc/pacman.conf:10", stays: true},
	})
}
