package standin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// World is everything outside that the scenario needs: vendors' repositories, over
// HTTP and over TLS with client certificates, and their subscription desks.
type World struct {
	Upstreams *Upstreams
	Desk      *Desk
	Plain     string // host:port of the repositories
	Secure    string // of the same over TLS
	Desks     string // of the desks

	servers []*http.Server
	running sync.WaitGroup
}

// NewWorld serves a world on three listeners until Close. Access that the desks
// issue is good for life.
func NewWorld(now func() time.Time, life time.Duration, plain, secure, desks net.Listener) (*World, error) {
	w := &World{Plain: plain.Addr().String(), Secure: secure.Addr().String(), Desks: desks.Addr().String()}
	var err error
	if w.Upstreams, err = NewUpstreams(now); err != nil {
		return nil, err
	}
	if w.Desk, err = NewDesk(now, life); err != nil {
		return nil, err
	}
	w.Upstreams.Admits = w.Desk.Admits
	conf, err := w.Desk.Authority().Server(now())
	if err != nil {
		return nil, err
	}
	w.serve(plain, w.Upstreams)
	w.serve(tls.NewListener(secure, conf), w.Upstreams)
	w.serve(desks, w.Desk)
	return w, nil
}

func (w *World) serve(ln net.Listener, h http.Handler) {
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	w.servers = append(w.servers, s)
	w.running.Go(func() { _ = s.Serve(ln) }) // ends when it is closed
}

// Close ends the servers.
func (w *World) Close() error {
	var errs []error
	for _, s := range w.servers {
		errs = append(errs, s.Close())
	}
	w.running.Wait()
	return errors.Join(errs...)
}

// Member is a host of the scenario that is enrolled: a folder with an agent.
type Member struct {
	Name   string // short
	Labels map[string]string
	Write  func(root, base string, keys map[string]*Key) error
}

// Fleet is every host that the demo enrols.
func Fleet() []Member {
	var out []Member
	for _, h := range DebHosts {
		out = append(out, Member{h.Name, h.Labels, h.Write})
	}
	for _, h := range RpmHosts {
		out = append(out, Member{h.Name, map[string]string{"site": "station"}, h.Write})
	}
	return append(out,
		Member{"chart-1", map[string]string{"site": "station"}, writer(chart("chart-1"))},
		Member{"chart-2", map[string]string{"site": "station"}, writer(chart("chart-2"))},
		Member{"model-1", map[string]string{"site": "station", "duty": "model"}, writer(model("model-1"))},
		Member{"model-2", map[string]string{"site": "station", "duty": "model"}, writer(model("model-2"))},
		Member{"model-3", map[string]string{"site": "station", "duty": "model"}, writer(olderModel)})
}

// writer makes a folder of what files gives.
func writer(
	files func(base string, keys map[string]*Key) (map[string]string, error),
) func(root, base string, keys map[string]*Key) error {
	return func(root, base string, keys map[string]*Key) error {
		list, err := files(base, keys)
		if err != nil {
			return err
		}
		if list["usr/bin/sh"], list["boot/.keep"] = program, ""; list["proc/cpuinfo"] == "" {
			list["proc/cpuinfo"] = cpuinfo
		}
		for name, text := range list {
			if err := write(filepath.Join(root, name), []byte(text)); err != nil {
				return err
			}
		}
		return nil
	}
}

// chart is a chart server that zypper keeps.
func chart(name string) func(base string, keys map[string]*Key) (map[string]string, error) {
	return func(base string, keys map[string]*Key) (map[string]string, error) {
		return chartFiles(name, base, keys)
	}
}

func chartFiles(name, base string, keys map[string]*Key) (map[string]string, error) {
	key, err := keys["halyard-archive"].Public()
	return map[string]string{
		"etc/hostname":                 name + "\n",
		"etc/os-release":               osRelease("Halyard", "halyard", "suse sles", "15.3"),
		"etc/zypp/zypp.conf":           "## Configuration of libzypp\n[main]\n",
		"etc/zypp/credentials.d/.keep": "",
		"etc/zypp/vars.d/.keep":        "",
		"etc/zypp/keys/halyard.asc":    key,
		"etc/zypp/repos.d/halyard.repo": "[halyard-oss]\nname=Halyard 15.3\nenabled=1\nautorefresh=1\nbaseurl=" + base +
			"/archive.halyard.example/15.3/oss/\ngpgkey=file:///etc/zypp/keys/halyard.asc\n",
		"var/lib/rpm/.keep":    "",
		"var/cache/zypp/.keep": "",
	}, err
}

// olderModel is a model node with an older processor.
func olderModel(base string, keys map[string]*Key) (map[string]string, error) {
	files, err := model("model-3")(base, keys)
	files["proc/cpuinfo"] = strings.Replace(cpuinfo, " avx avx2 bmi1 bmi2 f16c fma abm movbe xsave", "", 1)
	return files, err
}

// model is a model node that pacman keeps.
func model(name string) func(base string, _ map[string]*Key) (map[string]string, error) {
	return func(base string, _ map[string]*Key) (map[string]string, error) { return modelFiles(name, base), nil }
}

func modelFiles(name, base string) map[string]string {
	return map[string]string{
		"etc/hostname":   name + "\n",
		"etc/os-release": osRelease("Driftwood", "driftwood", "arch", ""),
		"etc/pacman.conf": "# As the installer wrote it.\n[options]\nHoldPkg = pacman glibc\nArchitecture = x86_64\nSigLevel = Required " +
			"DatabaseOptional\n\n" +
			"[driftwood]\nInclude = /etc/pacman.d/mirrorlist\n",
		"etc/pacman.d/mirrorlist":                            "## Driftwood\nServer = " + base + "/archive.driftwood.example/$repo/os/$arch\n",
		"var/lib/pacman/local/ALPM_DB_VERSION":               "9\n",
		"var/lib/pacman/local/pacman-6.0.2-8/desc":           "%NAME%\npacman\n\n%VERSION%\n6.0.2-8\n\n",
		"var/lib/pacman/local/driftwood-base-2026.11-1/desc": "%NAME%\ndriftwood-base\n\n%VERSION%\n2026.11-1\n\n%ARCH%\nx86_64\n\n",
		"var/lib/pacman/sync/.keep":                          "",
	}
}

// RpmHost is an archive database that dnf keeps and an agent looks after.
type RpmHost struct {
	Name    string
	Release string // of Foreland
}

// RpmHosts are the scenario's hosts of the rpm family that the demo enrols.
var RpmHosts = []RpmHost{{"arc-1", "9"}, {"arc-2", "9"}, {"arc-3", "8"}, {"arc-4", "8"}}

// Write makes the host's folder. base is the address of the upstreams.
func (h RpmHost) Write(root, base string, keys map[string]*Key) error {
	key, err := keys["foreland-archive"].Public()
	if err != nil {
		return err
	}
	for name, text := range map[string]string{
		"etc/hostname":                         h.Name + "\n",
		"etc/os-release":                       osRelease("Foreland", "foreland", "rhel fedora", h.Release),
		"etc/dnf/dnf.conf":                     "[main]\ngpgcheck=1\ninstallonly_limit=3\nclean_requirements_on_remove=True\nbest=True\n",
		"etc/dnf/vars/.keep":                   "",
		"etc/pki/rpm-gpg/RPM-GPG-KEY-foreland": key,
		"etc/yum.repos.d/foreland.repo": fmt.Sprintf(
			"# As the installer wrote it.\n[foreland-base]\nname=Foreland $releasever - "+
				"Base\nbaseurl=%s/archive.foreland.example/base/$releasever/$basearch\nenabled=1\nrepo_gpgcheck=1\n"+
				"gpgkey=file:///etc/pki/rpm-gpg/RPM-GPG-KEY-foreland\n",
			base,
		),
		"var/lib/rpm/.keep":   "",
		"var/cache/dnf/.keep": "",
		"var/log/.keep":       "",
		"proc/cpuinfo":        cpuinfo,
		"usr/bin/sh":          program,
		"boot/.keep":          "",
	} {
		if err := write(filepath.Join(root, name), []byte(text)); err != nil {
			return err
		}
	}
	return nil
}
