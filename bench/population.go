package main

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing/fstest"
	"time"

	"patientlantern.example/lantern/datafolder"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/store"
)

// variants is how many different surveys there are of each sheet.
const variants = 16

const revisionCount = 1000

// population is a fleet as it stands in a data folder: hosts whose surveys have sources
// and texts, under a published revision, some of them drifted.
type population struct {
	dir     string // the data folder
	token   string // of an operator
	key     ed25519.PrivateKey
	folder  policy.Folder
	hosts   []*store.Host
	surveys map[string]bool // digests
	sources int             // of one survey
}

// newFolder makes a data folder, keys and all, and returns its first operator's token.
func newFolder(ctx context.Context, dir string) (token string, err error) {
	first, err := datafolder.Open(ctx, datafolder.Options{Data: dir, Log: slog.New(slog.DiscardHandler), Interval: time.Hour})
	if err != nil {
		return "", err
	}
	return first.FirstToken, first.Close()
}

// populate makes a data folder for a fleet under the folder's policy. answers tells what the hosts of a survey have answered of their
// packages; nil: nobody was asked.
func populate(ctx context.Context, dir string, folder policy.Folder, fleet []resolve.Host, answers func(string) (*store.Answer, error),
) (*population, error) {
	out := &population{dir: dir, folder: folder, surveys: map[string]bool{}}
	var err error
	if out.token, err = newFolder(ctx, dir); err != nil {
		return nil, err
	}
	st, err := store.Open(ctx, filepath.Join(dir, "lantern.db"))
	if err != nil {
		return nil, err
	}
	defer st.Close()
	var pub ed25519.PublicKey
	if pub, out.key, err = ed25519.GenerateKey(nil); err != nil {
		return nil, err
	}
	now := time.Now()
	p, diags := policy.Load(folder, now)
	if len(diags) > 0 && p == nil {
		return nil, fmt.Errorf("the made-up policy has errors: %s", diags[0])
	}
	r := resolve.New(p)
	type variant struct {
		sheet string
		n     int
	}
	made := map[variant]string{}
	traits := map[*source.Traits]string{}
	docs := map[string]store.Document{}
	put := func(kind string, body []byte) string {
		d := source.Digest(body)
		docs[kind+d] = store.Document{Kind: kind, Digest: d, Body: body}
		return d
	}
	for i, h := range fleet {
		res := r.Resolve(h)
		if len(res.Trouble) > 0 {
			return nil, fmt.Errorf("the made-up policy contradicts itself: %s", res.Trouble[0])
		}
		if traits[h.Traits] == "" {
			b, err := source.Canonical(h.Traits)
			if err != nil {
				return nil, err
			}
			traits[h.Traits] = put(store.KindTraits, b)
		}
		kept, now := variant{res.Digest(), 0}, variant{res.Digest(), i % variants}
		for _, v := range []variant{kept, now} {
			if made[v] != "" {
				continue
			}
			put(store.KindSheet, res.Text())
			read := surveyed(res.Sheet, h.Traits, v.n)
			for _, text := range read.Masked() {
				put(store.KindText, text)
			}
			t := h.Traits // of which a survey that hosts share says so much
			read.Survey.Traits = source.Traits{
				OS: t.OS, Family: t.Family, Arch: t.Arch, Architectures: t.Architectures, Tools: map[string]string{},
			}
			b, err := source.Canonical(read.Survey)
			if err != nil {
				return nil, err
			}
			made[v], out.sources = put(store.KindSurvey, b), len(read.Survey.Sources)
			out.surveys[made[v]] = true
		}
		var answer *store.Answer
		if answers != nil {
			if answer, err = answers(made[now]); err != nil {
				return nil, err
			}
		}
		out.hosts = append(out.hosts, &store.Host{
			Name: h.Name, Key: pub, Joined: time.Now(), LastSeen: time.Now(), Labels: h.Labels, Traits: traits[h.Traits], Survey: made[now],
			Sheet: res.Digest(), Revision: 1, Carried: store.Carried{Sheet: res.Digest(), Survey: made[kept], At: time.Now()}, Agent: "bench",
			Packages: answer,
		})
	}
	var list []store.Document
	for _, d := range docs {
		list = append(list, d)
	}
	if err := st.PutDocuments(ctx, now, list...); err != nil {
		return nil, err
	}
	if err := out.publish(ctx, st, now); err != nil {
		return nil, err
	}
	return out, st.AddHosts(ctx, out.hosts)
}

// publish publishes the policy again and again.
func (p *population) publish(ctx context.Context, st *store.Store, now time.Time) error {
	for i := range revisionCount {
		again := p.folder
		if i%2 == 1 {
			again = p.edited("again")
		}
		body, err := source.Canonical(again)
		if err != nil {
			return err
		}
		if _, _, err := st.Publish(
			ctx,
			store.Revision{Policy: source.Digest(body), Author: "first", Message: fmt.Sprint("edit ", i), Created: now},
			body,
			nothing,
		); err != nil {
			return err
		}
	}
	return nil
}

// largePopulation is a data folder with 100,000 hosts under a revision; done removes it.
func largePopulation(ctx context.Context) (p *population, done func(), err error) {
	dir, err := os.MkdirTemp("", "lantern-bench-")
	if err != nil {
		return nil, nil, err
	}
	done = func() { _ = os.RemoveAll(dir) }
	folder, err := largePolicy()
	if err == nil {
		p, err = populate(ctx, filepath.Join(dir, "data"), folder, largeFleet(), nil)
	}
	if err != nil {
		done()
		return nil, nil, err
	}
	return p, done, nil
}

// nothing is what goes with a revision that nobody is told of.
func nothing(store.Revision, bool) store.Change { return store.Change{} }

// surveyed reads a root that stands as a sheet says, but for what a variant changes: every
// one has a file of its own, every fifth lacks a file, every seventh has an entry without
// a signature check.
func surveyed(sheet *source.Sheet, t *source.Traits, variant int) *survey.Result {
	files := fstest.MapFS{
		"etc/os-release": {
			Data: fmt.Appendf(
				nil,
				"ID=%s\nID_LIKE=%s\nVERSION_ID=%s\nVERSION_CODENAME=%s\n",
				t.OS.ID,
				t.OS.IDLike[0],
				t.OS.Version,
				t.OS.Codename,
			),
			Mode: 0o644,
		},
		"var/lib/dpkg/status": {
			Data: []byte("Package: apt\nStatus: install ok installed\nArchitecture: amd64\nVersion: 2.6.1\n"),
			Mode: 0o644,
		},
	}
	for i, f := range sheet.Files {
		if variant%5 == 4 && i == 0 {
			continue
		}
		files[f.Path[1:]] = &fstest.MapFile{Data: []byte(f.Text), Mode: 0o644}
	}
	text := fmt.Sprintf("Types: deb\nURIs: http://mirror.brinewick.test/own-%d\nSuites: %s\nComponents: main\n", variant, t.OS.Codename)
	if variant%7 == 6 {
		text += "Trusted: yes\n"
	}
	files["etc/apt/sources.list.d/own.sources"] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	r := survey.Read(rootfs.New(files), survey.Machine{Arch: t.Arch})
	return &r
}

// edited is the folder after one line of everyone's repository was changed.
func (p *population) edited(title string) map[string][]byte {
	out := map[string][]byte{}
	for n, d := range p.folder {
		out[n] = d
	}
	out["repositories.yaml"] = replaceOnce(
		p.folder["repositories.yaml"],
		"deb: { url: \"https://packages.saltmarsh.example/0/",
		"deb: { url: \"https://packages.saltmarsh.example/"+title+"/",
	)
	return out
}

func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
}
