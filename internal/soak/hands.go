package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/standin"
)

// vendors are those of the demo whose signatures are spoilt.
var vendors = []string{"packages.saltmarsh.example", "metrics.plover.example", "vm.gannet.example"}

// stood is what a file was: its mode, and the digest of its text.
type stood struct {
	mode fs.FileMode
	text [sha256.Size]byte
}

// decide are files beside those of the policy in which hands are at work.
var decide = []string{
	"etc/apt/sources.list", "etc/apt/sources.list.d/skerry.sources", "etc/dnf/dnf.conf", "etc/yum.repos.d/foreland.repo",
	"etc/zypp/zypp.conf", "etc/zypp/repos.d/halyard.repo", "etc/pacman.conf",
}

// root is the folder of a host.
func (s *soak) root(host string) string {
	name, _, _ := strings.Cut(host, ".")
	return filepath.Join(s.dir, "demo-hosts", name)
}

// note remembers what the files are that the first rollout made.
func (s *soak) note(ro *api.Rollout) error {
	s.stood, s.said = map[string]stood{}, map[string]bool{}
	for _, h := range ro.Hosts {
		if h.Report == nil {
			continue
		}
		for _, e := range h.Report.Edits {
			name := filepath.Join(s.root(h.Host), e.Path)
			is, err := read(name)
			if err != nil {
				return err
			}
			if e.Action == "create" {
				s.stood[name] = is
			}
			s.files = append(s.files, name)
		}
		for _, d := range decide {
			if name := filepath.Join(s.root(h.Host), d); !slices.Contains(s.files, name) && exists(name) {
				s.files = append(s.files, name)
			}
		}
	}
	slices.Sort(s.files)
	s.hidden = s.hiddenFiles()
	if len(s.stood) < 20 {
		return fmt.Errorf("the first rollout made %d files: the demo is not what this was written for", len(s.stood))
	}
	return nil
}

func read(name string) (stood, error) {
	info, err := os.Lstat(name)
	if err != nil {
		return stood{}, err
	}
	if !info.Mode().IsRegular() {
		return stood{}, fmt.Errorf("%s is no file", name)
	}
	text, err := os.ReadFile(name)
	return stood{info.Mode(), sha256.Sum256(text)}, err
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// compare says which file of the policy is not as it was, and what was left behind.
func (s *soak) compare() error {
	var wrong []error
	uncompared := 0
	for name, was := range s.stood {
		is, err := read(name)
		switch {
		case err != nil:
			wrong = append(wrong, err)
		case is.mode != was.mode, is != was && !s.said[name]: // what a comment says is no drift, and may stay
			wrong = append(wrong, fmt.Errorf("%s is not as it was", name))
		case s.said[name]:
			uncompared++
		}
	}
	log.Printf("%d files of the policy were compared, %d of them by their mode alone, since comments were put in", len(s.stood), uncompared)
	for _, name := range s.hiddenFiles() {
		if !slices.Contains(s.hidden, name) {
			wrong = append(wrong, errors.New(name+" was left behind"))
		}
	}
	return errors.Join(wrong...)
}

// hiddenFiles are those whose name begins with a dot, as a file does that is written beside the one that it replaces.
func (s *soak) hiddenFiles() (out []string) {
	_ = filepath.WalkDir(filepath.Join(s.dir, "demo-hosts"), func(name string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && e.Name()[0] == '.' && !strings.Contains(name, "gnupg") {
			out = append(out, name)
		}
		return nil // what went meanwhile is not there
	})
	return out
}

// act does one thing, and says what.
func (s *soak) act(ctx context.Context) {
	var what string
	var err error
	switch n := s.IntN(100); {
	case n < 40:
		what, err = s.edit()
	case n < 50:
		what, err = s.add()
	case n < 60:
		what = "publish"
		_, err = s.api.Publish(ctx, api.Publication{Files: s.other[s.IntN(len(s.other))], Message: "another"})
	case n < 70:
		what = "begin"
		_, err = s.api.BeginRollout(ctx, api.RolloutOrder{AtOnce: s.IntN(10) < 6, Because: "soaking"})
	case n < 77:
		host := filepath.Base(s.host())
		what = "heal " + host
		_, err = s.api.HealAs(ctx, host, api.HealOrder{SetAside: s.IntN(10) < 4})
	case n < 81:
		what = "heal a group"
		_, err = s.api.HealMany(ctx, api.HealManyOrder{To: []string{s.one("gateways", "archives", "charts", "models")}, Because: "soaking"})
	case n < 93:
		what, err = s.lever(ctx)
	case n < 97:
		what, err = s.kill()
	default:
		vendor, spoilt := s.one(vendors...), s.one("wrong-key", "expired", "unsigned", "", "")
		what, err = strings.TrimSpace(vendor+": "+spoilt), standin.Spoil(ctx, upstreams, vendor, spoilt)
	}
	if err != nil {
		what += ": " + strings.SplitN(err.Error(), "\n", 2)[0]
	}
	log.Print(what)
}

func (s *soak) one(of ...string) string { return of[s.IntN(len(of))] }

// roots are the folders of all hosts.
func (s *soak) roots() []string {
	all, _ := filepath.Glob(filepath.Join(s.dir, "demo-hosts", "[^.]*")) // the pattern is right
	return all
}

// host is the folder of one of the hosts.
func (s *soak) host() string { return s.one(s.roots()...) }

// lever pulls one of a rollout that is under way.
func (s *soak) lever(ctx context.Context) (string, error) {
	open, err := s.open(ctx)
	if err != nil || len(open) == 0 {
		return "nothing is under way", err
	}
	of := open[s.IntN(len(open))].ID
	lever := s.one(client.LeverHold, client.LeverHold, client.LeverProceed, client.LeverProceed, client.LeverBackOut, "stop")
	what := fmt.Sprintf("%s rollout %d", lever, of)
	if lever == "stop" {
		_, err = s.api.StopRollout(ctx, of)
	} else {
		_, err = s.api.PullLever(ctx, of, lever, api.LeverOrder{Because: "soaking"})
	}
	return what, err
}

// edit does something to a file.
func (s *soak) edit() (what string, err error) {
	name := s.files[s.IntN(len(s.files))]
	how := s.one("comment", "say more", "remove", "mode", "empty", "byte", "link", "folder", "rename")
	switch how {
	case "comment":
		s.said[name] = true
		err = appendTo(name, "\n# by hand\n")
	case "say more":
		s.said[name] = s.said[name] || !strings.Contains(name, "/apt/") // it says something to apt alone
		err = appendTo(name, "\nEnabled: no\n")
	case "remove":
		err = os.Remove(name)
	case "mode":
		err = os.Chmod(name, []fs.FileMode{0o600, 0o666, 0o777, 0o640}[s.IntN(4)])
	case "empty":
		err = os.Truncate(name, 0)
	case "byte":
		s.said[name] = true // it may be one of a comment
		err = s.spoil(name)
	case "link":
		aside := name + ".away"
		if err = os.Rename(name, aside); err == nil {
			s.strays = append(s.strays, aside)
			err = os.Symlink(filepath.Base(aside), name)
		}
	case "folder":
		if err = os.Remove(name); err == nil {
			err = os.Mkdir(name, 0o755)
		}
	case "rename":
		s.strays = append(s.strays, name+".bak")
		err = os.Rename(name, name+".bak")
	}
	return how + " " + strings.TrimPrefix(name, s.dir+"/demo-hosts/"), err
}

func appendTo(name, text string) error {
	f, err := os.OpenFile(name, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// spoil changes one byte.
func (s *soak) spoil(name string) error {
	text, err := os.ReadFile(name)
	if err != nil || len(text) == 0 {
		return err
	}
	const bytesOf = "xX[]=\n #\x00"
	text[s.IntN(len(text))] = bytesOf[s.IntN(len(bytesOf))]
	return os.WriteFile(name, text, 0o644)
}

// add puts a file of somebody's own beside those of the policy.
func (s *soak) add() (string, error) {
	host := s.host()
	section := "[own]\nname=own\nbaseurl=http://127.0.0.1:1/\ngpgcheck=0\n"
	var name, text string
	switch base := filepath.Base(host); {
	case strings.HasPrefix(base, "gw"), strings.HasPrefix(base, "desk"):
		name = "etc/apt/sources.list.d/own%d.list"
		twice := "deb " + upstreams + "/packages.saltmarsh.example/apt/8.x stable main\n"
		text = s.one("deb [trusted=yes] http://127.0.0.1:1/x ./\n", "nonsense here\n", twice)
	case strings.HasPrefix(base, "arc"):
		name, text = "etc/yum.repos.d/own%d.repo", s.one(section, "nonsense\n")
	case strings.HasPrefix(base, "chart"):
		name, text = "etc/zypp/repos.d/own%d.repo", section
	default:
		return "nothing is added to " + base, nil
	}
	n := s.IntN(1000)
	name = filepath.Join(host, fmt.Sprintf(name, n))
	s.strays = append(s.strays, name)
	text = strings.ReplaceAll(text, "own", fmt.Sprintf("own%d", n))
	return "add " + strings.TrimPrefix(name, s.dir+"/demo-hosts/"), os.WriteFile(name, []byte(text), 0o644)
}

// takeOut removes what the hands have put on hosts and that a change does not replace: strays, links, folders.
func (s *soak) takeOut() {
	for _, name := range s.strays {
		_ = os.Remove(name) // it may be set aside, or gone
		_ = os.Remove(name + change.Aside)
	}
	for _, name := range s.files {
		if info, err := os.Lstat(name); err == nil && !info.Mode().IsRegular() {
			_ = os.RemoveAll(name)
		}
	}
}
