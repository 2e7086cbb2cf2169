package change_test

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// tree is a root: the names of files, with no slash before them, and their texts.
type tree map[string]string

// hand is what somebody does to a host by hand, and the one finding that follows from it.
type hand struct {
	does string
	file string
	from string // what is replaced, its first occurrence; empty where text is the whole file
	text string // what stands there then
	mode fs.FileMode
	more tree // other files that are written by the same hand; "-" takes one away

	want  string // class and severity; empty where nothing counts
	field string
	at    string // file of the finding, where it is another; with its line
	loose bool   // healing puts it back at another place of the file
	hides bool   // healing makes comments of it, and leaves the file
	stays bool   // healing cannot put it back: somebody on the host has to, or it is accepted
}

// place is a host of a family to which a policy was carried.
type place struct {
	files tree
	sheet *source.Sheet
	modes map[string]fs.FileMode
}

var asOf = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// look surveys a tree, as the agent does.
func look(files tree, modes map[string]fs.FileMode, sheets ...*source.Sheet) survey.Result {
	root := fstest.MapFS{}
	for name, text := range files {
		mode := fs.FileMode(0o644)
		if m, given := modes[name]; given {
			mode = m
		}
		root[name] = &fstest.MapFile{Data: []byte(text), Mode: mode}
	}
	r := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64", Now: asOf})
	for _, sheet := range sheets {
		for _, f := range sheet.Files { // what the package manager does not read the agent adds
			if text, there := files[f.Path[1:]]; there && r.Texts[f.Path] == nil {
				r.Texts[f.Path], r.Modes[f.Path] = []byte(text), root[f.Path[1:]].Mode
			}
		}
	}
	r.Masked()
	return r
}

// carried makes the policy's change on a tree.
func (p place) carried(t *testing.T) place {
	t.Helper()
	r := look(p.files, nil, p.sheet)
	plan := change.Compute(change.Input{Sheet: p.sheet, Survey: &r.Survey, Texts: r.Texts})
	require.Empty(t, plan.Impossible)
	out := place{files: tree{}, sheet: p.sheet, modes: map[string]fs.FileMode{}}
	maps.Copy(out.files, p.files)
	out.take(plan)
	return out
}

func (p place) take(plan change.Change) {
	for _, e := range plan.Edits {
		if e.Action == change.Remove {
			delete(p.files, e.Path[1:])
			continue
		}
		var mode fs.FileMode
		fmt.Sscanf(e.Mode, "%o", &mode)
		p.files[e.Path[1:]], p.modes[e.Path[1:]] = string(e.New), mode
	}
}

// done is the place after a hand was at work.
func (p place) done(t *testing.T, h hand) place {
	t.Helper()
	out := place{files: maps.Clone(p.files), sheet: p.sheet, modes: maps.Clone(p.modes)}
	set := func(name, text string) {
		if text == "-" {
			delete(out.files, name)
		} else {
			out.files[name] = text
		}
	}
	switch {
	case h.file == "":
	case h.mode != 0:
		require.Contains(t, p.files, h.file)
		out.modes[h.file] = h.mode
	case h.from != "":
		require.Contains(t, p.files[h.file], h.from, "the hand finds what it changes")
		set(h.file, strings.Replace(p.files[h.file], h.from, h.text, 1))
	default:
		set(h.file, h.text)
	}
	for name, text := range h.more {
		set(name, text)
	}
	return out
}

// hands tries each hand on a place: one finding or none, and healing gives back the bytes.
func hands(t *testing.T, p place, list []hand) {
	t.Helper()
	p = p.carried(t)
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	usual := map[string]bool{}
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &before.Survey, Base: base}) {
		require.Equal(t, drift.UnlistedSource, f.Class, "%+v", f)
		usual[f.Key()] = true
	}
	if slices.ContainsFunc(list, func(h hand) bool { return h.want != "" && !h.stays }) {
		t.Run("several at once", func(t *testing.T) { several(t, p, list, base, before) })
	}
	for _, h := range list {
		t.Run(h.does, func(t *testing.T) {
			now := p.done(t, h)
			r := look(now.files, now.modes, now.sheet)
			var found []drift.Finding
			for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
				if !usual[f.Key()] {
					found = append(found, f)
				}
			}
			if h.want == "" {
				assert.Empty(t, found)
				return
			}
			if !assert.Len(t, found, 1, "%+v", found) {
				return
			}
			f := found[0]
			if f.Class != drift.UnlistedSource { // of which the policy says what becomes
				assert.Equal(t, h.stays, f.Stays, "whether healing puts it back: %+v", f)
			}
			assert.Equal(t, h.want, f.Class+" "+f.Severity, "%+v", f)
			assert.Equal(t, h.field, f.Field, "%+v", f)
			at := h.at
			if at == "" {
				at = "/" + h.file
			}
			if strings.Contains(path.Base(at), ":") {
				assert.Equal(t, at, fmt.Sprintf("%s:%d", f.File, f.Line))
			} else {
				assert.Equal(t, at, f.File)
			}
			healed(t, p, now, h, base, before)
		})
	}
}

func healed(t *testing.T, p, now place, h hand, base *drift.Base, before survey.Result) {
	t.Helper()
	r := look(now.files, now.modes, now.sheet)
	for name := range before.Texts { // as the agent adds what is not read any more
		if text, there := now.files[name[1:]]; there && r.Texts[name] == nil {
			r.Texts[name] = []byte(text)
		}
	}
	plan := change.Compute(change.Input{Sheet: p.sheet, Survey: &r.Survey, Texts: r.Texts, Before: p.sheet, Kept: before.Texts, Base: base, Stood: before.Texts})
	if h.stays {
		assert.Empty(t, plan.Edits)
		return
	}
	assert.Empty(t, plan.Impossible)
	now.take(plan)
	for name := range now.files { // what was not there is kept where nothing reads it
		if strings.HasSuffix(name, change.Aside) {
			assert.Equal(t, path.Base(h.file)+change.Aside, path.Base(name))
			delete(now.files, name)
		}
	}
	if h.hides {
		for line := range strings.Lines(now.files[h.file]) {
			assert.True(t, strings.HasPrefix(line, "#"), line)
		}
		delete(now.files, h.file)
	}
	if h.loose {
		assert.ElementsMatch(t, strings.Fields(p.files[h.file]), strings.Fields(now.files[h.file]))
	} else {
		assert.Equal(t, p.files, now.files)
	}
	r = look(now.files, now.modes, now.sheet)
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
		assert.Equal(t, drift.UnlistedSource, f.Class, "%+v", f)
	}
}

// handKeys are certificates for these tests.
var handKeys = func() (out [4]*standin.Key) {
	for i, name := range []string{"Saltmarsh", "Skerry", "Plover", "Somebody"} {
		k, err := standin.NewKey("hands-"+name, name+" <packages@"+strings.ToLower(name)+".example>", asOf.AddDate(-1, 0, 0), 0)
		if err != nil {
			panic(err)
		}
		out[i] = k
	}
	return out
}()

func armoured(k *standin.Key) string {
	text, err := k.Public()
	if err != nil {
		panic(err)
	}
	return text
}

// saltmarsh is the policy's own repository.
func saltmarsh(url string) family.Definition {
	k := handKeys[0]
	return family.Definition{Repository: "saltmarsh", Enabled: true, URL: url, Signatures: source.CheckRequired,
		Keys: []family.SigningKey{{Name: "saltmarsh", Fingerprint: k.Fingerprint(), Armored: armoured(k)}}}
}

func binary(k *standin.Key) string {
	text, err := k.Binary()
	if err != nil {
		panic(err)
	}
	return string(text)
}

// several lets a few hands work at once, one after another: after one healing nothing is left
// but what no healing takes back, and a second one changes nothing.
func several(t *testing.T, p place, list []hand, base *drift.Base, before survey.Result) {
	passed, most := 0, cell.Rounds(25)
	rapid.Check(t, func(rt *rapid.T) {
		if passed >= most {
			return
		}
		now := p
		var did []string
		for range rapid.IntRange(1, 4).Draw(rt, "hands") {
			h := rapid.SampledFrom(list).Draw(rt, "hand")
			if h.stays || h.file != "" && h.from != "" && !strings.Contains(now.files[h.file], h.from) || h.mode != 0 && now.files[h.file] == "" {
				continue
			}
			now = now.done(t, h)
			did = append(did, h.does)
		}
		heals(rt, now, did, base, before, before.Texts)
		passed++
	})
}

// heals holds that healing comes to rest, and leaves nothing but what is reported anyway.
func heals(rt *rapid.T, now place, did []string, base *drift.Base, before survey.Result, stood map[string][]byte) {
	heal := func() change.Change {
		r := look(now.files, now.modes, now.sheet)
		for name := range before.Texts {
			if text, there := now.files[name[1:]]; there && r.Texts[name] == nil {
				r.Texts[name] = []byte(text)
			}
		}
		return change.Compute(change.Input{
			Sheet: now.sheet, Survey: &r.Survey, Texts: r.Texts, Before: now.sheet, Kept: before.Texts, Base: base, Stood: stood,
			// As asked, where what was not there stops the package manager.
			SetAside: slices.ContainsFunc(r.Survey.Problems, func(p source.Problem) bool { return p.Fatal && before.Texts[p.File] == nil }),
		})
	}
	now = place{files: maps.Clone(now.files), sheet: now.sheet, modes: maps.Clone(now.modes)}
	now.take(heal())
	last := heal()
	now.take(last) // what a file gave that was gone is seen when it is back
	if again := heal(); len(again.Edits) > 0 {
		rt.Fatalf("%v: a third healing is not empty:\n%s", did, again.Diff())
	}
	r := look(now.files, now.modes, now.sheet)
	for _, f := range drift.Judge(drift.Input{Sheet: now.sheet, Before: now.sheet, Survey: &r.Survey, Base: base}) {
		if f.Class != drift.UnlistedSource && f.Severity != drift.Note && len(last.Impossible) == 0 {
			rt.Fatalf("%v: still there: %+v", did, f)
		}
	}
}
