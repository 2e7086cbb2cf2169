package main

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"

	"patientlantern.example/lantern/core/text/aptline"
	"patientlantern.example/lantern/core/text/deb822"
	"patientlantern.example/lantern/core/text/ini"
)

// texts measures the parsers.
func texts(s *suite) error {
	var list, stanzas strings.Builder
	for i := 0; list.Len() < 8<<20; i++ {
		fmt.Fprintf(
			&list,
			"# repository %d\ndeb [arch=amd64 signed-by=/etc/apt/keyrings/k%d.asc] https://packages.saltmarsh.example/apt/%d.x stable main "+
				"extra\n# deb https://packages.saltmarsh.example/apt/%d.x testing main\n",
			i,
			i,
			i,
			i,
		)
	}
	for i := 0; stanzas.Len() < 8<<20; i++ {
		fmt.Fprintf(
			&stanzas,
			"# repository %d\nTypes: deb\nURIs: https://packages.saltmarsh.example/apt/%d.x\nSuites: stable\nComponents: main "+
				"extra\nSigned-By: /etc/apt/keyrings/k%d.asc\n\n",
			i,
			i,
			i,
		)
	}
	var repos, servers, remotes strings.Builder
	for i := 0; repos.Len() < 8<<20; i++ {
		fmt.Fprintf(
			&repos,
			"# repository %d\n[saltmarsh-%d]\nname=Saltmarsh %d for "+
				"$releasever\nbaseurl=https://packages.saltmarsh.example/rpm/%d.x/$basearch\nenabled=1\ngpgcheck = 1\n\n",
			i,
			i,
			i,
			i,
		)
		fmt.Fprintf(
			&servers,
			"# repository %d\n[saltmarsh-%d]\nSigLevel = Required DatabaseOptional\nServer = "+
				"https://packages.saltmarsh.example/arch/%d.x/$repo/$arch\nInclude = /etc/pacman.d/mirrorlist-%d\n\n",
			i,
			i,
			i,
			i,
		)
		fmt.Fprintf(
			&remotes,
			"[remote \"saltmarsh-%d\"]\nurl=https://apps.saltmarsh.example/%d/repo/\nxa.title=Saltmarsh %d\ngpg-verify=true\n\n",
			i,
			i,
			i,
		)
	}
	for _, c := range []struct {
		name  string
		text  []byte
		parse func([]byte) []byte
	}{
		{"apt one-line lists", []byte(list.String()), func(b []byte) []byte { return aptline.Parse(b).Bytes() }},
		{"deb822 stanzas", []byte(stanzas.String()), func(b []byte) []byte { return deb822.Parse(b).Bytes() }},
		{"dnf .repo files", []byte(repos.String()), func(b []byte) []byte { return ini.ParseRPM(b).Bytes() }},
		{"zypper .repo files", []byte(repos.String()), func(b []byte) []byte { return ini.ParseZypp(b, "baseurl", "gpgkey").Bytes() }},
		{"pacman.conf", []byte(servers.String()), func(b []byte) []byte { return ini.ParsePacman(b).Bytes() }},
		{"flatpak key files", []byte(remotes.String()), func(b []byte) []byte { return ini.ParseKeyFile(b).Bytes() }},
	} {
		mb := float64(len(c.text)) / 1e6
		count := fastest(15, func() { _ = bytes.Count(c.text, []byte{'\n'}) })
		lines := bytes.Count(c.text, []byte{'\n'})
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		c.parse(c.text)
		runtime.ReadMemStats(&after)
		allocs := float64(after.Mallocs-before.Mallocs) / float64(lines)
		d := fastest(15, func() { c.parse(c.text) })
		rate := mb / d.Seconds()
		s.add("parse and print "+c.name, "250 MB/s, no allocation a line", rate >= 250 && allocs < 0.005,
			fmt.Sprintf("%.0f MB/s, %.2f allocations a line", rate, allocs), fmt.Sprintf("bytes.Count %.0f MB/s", mb/count.Seconds()))
	}
	return nil
}
