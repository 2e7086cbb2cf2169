// Package resolve works out what each host should have: policy × traits ×
// labels → sheet, with the reason for it.
//
// The work is done once for each distinct input, never once for each host: hosts
// that agree in the facts which the policy looks at, and in the groups that name
// them, share one result.
package resolve

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// Host is one host as resolving sees it. Class must be equal only for hosts
// with equal traits and labels, a digest of both for example.
type Host struct {
	Name   string
	Class  string
	Labels map[string]string
	Traits *source.Traits
}

// Result is what a set of hosts should have.
type Result struct {
	Sheet   *source.Sheet
	Trouble []diag.Diagnostic // why the hosts cannot have a sheet; Example is one of them
	Example string

	written  *written
	resolver *Resolver
	plan     *plan
	parts    []*part
	given    *Given
}

// HostFact is the code of what keeps a sheet from hosts alone that tell nothing of themselves, or nonsense: the policy is right for
// others, who do not wait for them.
const HostFact = "host-fact"

// Untold reports whether the hosts have no sheet only because of what they tell of themselves.
func (res *Result) Untold() bool {
	return len(res.Trouble) > 0 && !slices.ContainsFunc(res.Trouble, func(d diag.Diagnostic) bool { return d.Code != HostFact })
}

// Why says in one line why the hosts have no sheet, of whichever of them.
func (res *Result) Why() string {
	d := res.Trouble[0]
	return d.Pos.String() + ": " + strings.ReplaceAll(d.Message, " the host "+res.Example, " the host") + "; " + d.Remedy
}

// Given is what a policy gives hosts beside their sheet. Hosts that are resolved alike share it.
type Given struct {
	Needs      []Needs         // which contracts the sheet needs, by account
	Follows    []Follow        // which choices of channels they follow
	Rules      map[string]Rule // what is done about findings, by class
	ReadLogins bool            // the agent may read from the host's log who used sudo
}

// Given is what the policy gives the hosts beside the sheet. It is not to be changed.
func (res *Result) Given() *Given { return res.given }

// Text is the canonical JSON of the sheet. It is made each time: a fleet has thousands of
// sheets, and few of them are wanted as text.
func (res *Result) Text() []byte { return res.written.text() }

// Digest is that of Text.
func (res *Result) Digest() string {
	res.written.once.Do(func() { res.written.digest = source.Digest(res.written.text()) })
	return res.written.digest
}

// Reason says why a repository is on a sheet, or why it is not.
type Reason struct {
	Repository string     `json:"repository"`
	Because    string     `json:"because"`
	At         []diag.Pos `json:"places"` // assignment, repository, cases
	Left       bool       `json:"left_out"`
}

// Resolver resolves hosts against one policy. It is not safe for use by several
// goroutines at once.
type Resolver struct {
	policy  *policy.Policy
	groups  []*policy.Group // sorted by name
	byName  map[string]int  // host → index into marks; 0 for those that no group names
	marks   []string        // of groups that name hosts and of media that they hold, as numbers
	reads   []string        // facts that the policy looks at, sorted
	perHost bool            // whether host.name is among them
	classes map[string]*class
	above   [][]uint64 // bit j of row i: assignment i stands over assignment j
	to      [][]int    // groups of each assignment, -1 for everyone
	holders []holder   // of media
	made    bool       // some groups are made of others

	groupNumbers map[string]int             // name → index into groups
	assigned     map[string]map[string]bool // repository → settings that assignments say

	members map[resultKey][]bool // groups that hosts are in
	results map[resultKey]*Result
	plans   map[string]*plan
	sheets  map[string]*Result // by the parts that make a sheet up
	memory  *Memory

	withdrawn []source.SheetWithdrawn // that no host may believe
	distrusts string                  // the same as text
	bare      []bareRepository        // by name
	numbers   map[string]int          // name → index into bare
}

// markWith is one mark more for a host that has some.
type markWith struct {
	marks int
	more  string
}

// holder is a mark among the names of a host's groups that it holds the media of a
// repository.
type holder struct{ mark, repository string }

type resultKey struct{ class, marks int }

// bareRepository is a repository with what it looks at.
type bareRepository struct {
	*policy.Repository
	reads []int  // indexes into Resolver.reads
	print string // everything that its part of a sheet follows from, but facts and settings
}

// Memory keeps parts from one version of a policy to the next: what an edit does
// not touch is not worked out again. It is not safe for use by several goroutines
// at once.
type Memory struct {
	parts  map[string]*part
	sheets map[string]*written // by the parts that they are made of
	count  int                 // of parts ever made; gives each its id
}

// written is a sheet, and its digest once somebody has asked for it.
type written struct {
	sheet  *source.Sheet
	once   sync.Once
	digest string
}

func (w *written) text() []byte {
	text, err := source.Canonical(w.sheet)
	if err != nil {
		panic(err) // a struct of texts always encodes
	}
	return text
}

// mostParts and mostSheets bound a Memory; beyond them it begins anew.
const (
	mostParts  = 200_000
	mostSheets = 20_000
)

// New prepares a policy, which must be free of errors.
func New(p *policy.Policy) *Resolver { return NewWith(p, &Memory{}) }

// NewWith is New with the memory of an earlier version of the policy.
func NewWith(p *policy.Policy, m *Memory) *Resolver {
	if m.parts == nil || len(m.parts) > mostParts || len(m.sheets) > mostSheets {
		m.parts, m.sheets = map[string]*part{}, map[string]*written{}
	}
	r := &Resolver{policy: p, memory: m, classes: map[string]*class{},
		groupNumbers: map[string]int{}, assigned: map[string]map[string]bool{}, results: map[resultKey]*Result{},
		members: map[resultKey][]bool{}, plans: map[string]*plan{},
		sheets: map[string]*Result{}, numbers: map[string]int{}}
	for _, g := range p.Groups {
		r.groups = append(r.groups, g)
	}
	slices.SortFunc(r.groups, func(a, b *policy.Group) int { return strings.Compare(a.Name, b.Name) })
	named := 0
	for _, g := range r.groups {
		named += len(g.Hosts)
	}
	r.byName = make(map[string]int, named)
	r.marks = []string{""}
	also := map[markWith]int{} // marks together: few hosts have the same ones alone
	mark := func(host, m string) {
		k := markWith{r.byName[host], m}
		both, seen := also[k]
		if !seen {
			both = len(r.marks)
			also[k] = both
			r.marks = append(r.marks, strings.TrimPrefix(r.marks[k.marks]+","+m, ","))
		}
		r.byName[host] = both
	}
	for i, g := range r.groups {
		m := strconv.Itoa(i)
		for _, h := range g.Hosts {
			mark(h, m)
		}
	}
	for i, name := range sortedKeys(p.Repositories) { // who holds media is one of its own
		if m := p.Repositories[name].Media; m != nil {
			mark(m.Host.Value, "m"+strconv.Itoa(i))
			r.holders = append(r.holders, holder{"m" + strconv.Itoa(i), name})
		}
	}
	for i, g := range r.groups {
		for _, t := range slices.Concat(g.Of, g.Except) {
			r.made = r.made || p.Groups[t.Value] != nil
		}
		r.groupNumbers[g.Name] = i
	}
	r.withdrawn = p.NotBelieved()
	for _, w := range r.withdrawn {
		r.distrusts += fmt.Sprintf("%q ", []string{w.Key, w.Fingerprint, w.Because, strconv.FormatBool(w.Stays)})
	}
	r.collectReads()
	r.order()
	return r
}

func sortedKeys[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func trouble(code string, at diag.Pos, message, remedy string, also ...diag.Pos) diag.Diagnostic {
	return diag.Diagnostic{Code: code, Severity: policy.Codes[code].Severity, Pos: at, Message: message, Remedy: remedy, Also: also}
}
