package change_test

import (
	"strings"
	"testing"
)

const (
	listOfMirrors = "srv/mirrors/list"
	siteMirrors   = "# of the site\nhttp://a.brinewick.test/x/\nhttp://b.brinewick.test/x/\n"
)

// listPlaces are hosts on which an entry of the distribution's has its mirrors from a file that only this entry names.
func listPlaces(t *testing.T) map[string]place {
	t.Helper()
	out := map[string]place{"apt": debPlace(), "dnf": rpmPlace(), "zypper": zyppPlace(t)}
	named := func(family, file, was, is string) {
		p := out[family]
		if !strings.Contains(p.files[file], was) {
			t.Fatalf("%s has no %s", file, was)
		}
		p.files[file] = strings.Replace(p.files[file], was, is, 1)
		p.files[listOfMirrors], p.files["etc/machine-id"] = siteMirrors, "5c0f0f5b3f2d4a6f9d8e7c6b5a493827\n"
	}
	named("apt", listFile, "deb http://archive.skerry.example/skerry mussel main", "deb mirror+file:/"+listOfMirrors+" mussel main")
	named("dnf", forelandFile, "metalink=https://mirrors.foreland.example/metalink?repo=updates", "mirrorlist=file:///"+listOfMirrors)
	named("zypper", halyardFile, "mirrorlist=https://mirrors.halyard.example/list", "mirrorlist=file:///"+listOfMirrors)
	return out
}

func TestWhatHandsDoToListsOfMirrors(t *testing.T) {
	const want, field = "changed-source danger", "list of mirrors"
	for family, p := range listPlaces(t) {
		t.Run(family, func(t *testing.T) {
			hands(t, p, []hand{
				{does: "a mirror of somebody's", file: listOfMirrors, from: "b.brinewick.test", text: "elsewhere.example", want: want, field: field},
				{does: "one mirror more", file: listOfMirrors, text: siteMirrors + "http://elsewhere.example/x/\n", want: want, field: field},
				{does: "a line that names no mirror", file: listOfMirrors, text: siteMirrors + "../../../srv/reef\n", want: want, field: field},
				{does: "no list", file: listOfMirrors, text: "-", want: want, field: field},
				{does: "an empty list", file: listOfMirrors, text: "\n", want: want, field: field},
				{does: "another comment", file: listOfMirrors, from: "of the site", text: "of ours"},
				{does: "another order", file: listOfMirrors, text: "http://b.brinewick.test/x/\n http://a.brinewick.test/x/\n"},
			})
		})
	}
}

func TestAListOfMirrorsThatComesIsFound(t *testing.T) {
	for family, p := range listPlaces(t) {
		t.Run(family, func(t *testing.T) {
			delete(p.files, listOfMirrors)
			hands(t, p, []hand{
				{does: "a list of somebody's", file: listOfMirrors, text: "http://elsewhere.example/x/\n", want: "changed-source danger", field: "list of mirrors"},
				{does: "a list that names no mirror", file: listOfMirrors, text: "../../../srv/reef\n", want: "changed-source danger", field: "list of mirrors", stays: true},
			})
		})
	}
}

// A file that is only called a list of mirrors is watched, and never put back: it may be any file on the host.
func TestWhatIsOnlyCalledAListIsNotPutBack(t *testing.T) {
	for family, p := range listPlaces(t) {
		t.Run(family, func(t *testing.T) {
			p.files[listOfMirrors] = "root:x:0:0:root:/root:/bin/sh\n"
			hands(t, p, []hand{
				{does: "one more account", file: listOfMirrors, text: p.files[listOfMirrors] + "mira:x:1000:1000::/home/mira:/bin/sh\n",
					want: "changed-source danger", field: "list of mirrors", stays: true},
				{does: "no file", file: listOfMirrors, text: "-", want: "changed-source danger", field: "list of mirrors", stays: true},
			})
		})
	}
}
