package main

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/demo"
)

const (
	hostCount  = 100_000
	repoCount  = 400
	groupCount = 60
	traitCount = 300
)

// largePolicy writes a policy of the size that the goals speak of.
func largePolicy() (policy.Folder, error) {
	files, err := demo.Policy(demo.Address, demo.Secure)
	if err != nil {
		return nil, err
	}
	out := policy.Folder{}
	for name, data := range files {
		if name == "keys.yaml" || strings.HasPrefix(name, "keys/") {
			out[name] = data
		}
	}
	keys := []string{"gannet-2025", "plover-2024", "saltmarsh-2026", "saltmarsh-2029"}
	var repos, rest strings.Builder
	repos.WriteString("format: patient-lantern/1\nrepositories:\n")
	for i := range repoCount {
		fmt.Fprintf(
			&repos,
			"  repo-%03d:\n    title: Repository %d\n    support: vendor\n    settings: { series: \"%d\" }\n    keys: [%s]\n    deb: { url: "+
				"\"https://packages.saltmarsh.example/%d/${series}\", suites: [\"${os.codename}\"], components: [main] }\n    cases:\n      - "+
				"where: os.major >= 12\n        deb: { add-components: [extra] }\n",
			i,
			i,
			i%9,
			keys[i%len(keys)],
			i,
		)
	}
	rest.WriteString("format: patient-lantern/1\ngroups:\n")
	for i := range groupCount {
		switch i % 3 {
		case 0:
			fmt.Fprintf(&rest, "  group-%02d: { hosts: [\"node-{%06d..%06d}.brinewick.test\"] }\n", i, i*1600, i*1600+1599)
		case 1:
			fmt.Fprintf(&rest, "  group-%02d: { where: 'os.major == %d && cpu.level == %d' }\n", i, 4+i%20, 1+i%3)
		default:
			fmt.Fprintf(&rest, "  group-%02d: { where: 'label.site == \"site-%d\" && os.major > 3' }\n", i, i)
		}
	}
	rest.WriteString("assign:\n  - { to: everyone, repositories: [repo-000, repo-001, repo-002] }\n")
	for i := range groupCount {
		var list []string
		for j := i; j < repoCount; j += groupCount {
			list = append(list, fmt.Sprintf("repo-%03d", j))
		}
		fmt.Fprintf(&rest, "  - { to: group-%02d, repositories: [%s] }\n", i, strings.Join(list, ", "))
	}
	out["repositories.yaml"], out["rest.yaml"] = []byte(repos.String()), []byte(rest.String())
	return out, nil
}

func largeFleet() []resolve.Host {
	sets := make([]*source.Traits, traitCount)
	for i := range sets { // 20 releases, 5 versions of apt, 3 kinds of processor
		release, apt, level := i%20, i/20%5, 1+i/100
		sets[i] = &source.Traits{
			OS: source.OS{
				ID:       "skerry",
				IDLike:   []string{"debian"},
				Version:  fmt.Sprint(4 + release),
				Codename: fmt.Sprintf("code%d", release),
			},
			Family:        "deb",
			Arch:          "x86_64",
			Architectures: []string{"amd64"},
			CPU:           source.CPU{Level: level},
			Tools:         map[string]string{"apt": fmt.Sprintf("2.6.%d", apt)},
		}
	}
	out := make([]resolve.Host, hostCount)
	for i := range out {
		out[i] = resolve.Host{
			Name:   fmt.Sprintf("node-%06d.brinewick.test", i),
			Traits: sets[i%traitCount],
			Class:  fmt.Sprint("traits-", i%traitCount),
		}
	}
	return out
}

func fleet(s *suite) error {
	folder, err := largePolicy()
	if err != nil {
		return err
	}
	now := time.Now()
	load := median(3, func() { _, _ = policy.Load(folder, now) })
	p, diags := policy.Load(folder, now)
	if diag.HasErrors(diags) {
		return fmt.Errorf("the made-up policy has errors: %s", diags[0])
	}
	hosts := largeFleet()
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var r *resolve.Resolver
	var memory *resolve.Memory
	digests := make([]string, len(hosts))
	cold := median(3, func() {
		memory = &resolve.Memory{}
		r = resolve.NewWith(p, memory)
		for i := range hosts {
			r.Resolve(hosts[i])
		}
	})
	runtime.GC()
	runtime.ReadMemStats(&after)
	distinct := r.Distinct()
	size := 0
	var sum time.Duration // one text at a time: all of them would be most of the memory
	for _, d := range distinct {
		text := d.Text()
		size += len(text)
		begun := time.Now()
		sha256.Sum256(text)
		sum += time.Since(begun)
	}
	for i := range hosts {
		digests[i] = r.Resolve(hosts[i]).Digest()
	}
	held := float64(after.HeapAlloc-min(before.HeapAlloc, after.HeapAlloc)) / (1 << 20)
	yard := fmt.Sprintf("SHA-256 of %d sheets, %.0f MB: %s", len(distinct), float64(size)/1e6, sum.Round(time.Millisecond))
	s.add(
		"resolve 100,000 hosts, cold",
		"500 ms, 128 MiB",
		cold < 500*time.Millisecond && held < 128,
		fmt.Sprintf("%s, %.0f MiB held", cold.Round(time.Millisecond), held),
		yard,
	)

	edited := policy.Folder{}
	for n, d := range folder {
		edited[n] = d
	}
	edited["repositories.yaml"] = []byte(
		strings.Replace(string(folder["repositories.yaml"]), "title: Repository 399", "title: Repository three hundred and ninety-nine", 1),
	)
	p2, diags := policy.Load(edited, now)
	if diag.HasErrors(diags) {
		return fmt.Errorf("the edited policy has errors: %s", diags[0])
	}
	again := median(3, func() {
		r2 := resolve.NewWith(p2, memory)
		for i := range hosts {
			r2.Resolve(hosts[i])
		}
	})
	s.add(
		"resolve them again after a one-line edit",
		"80 ms, 150 ms with reading",
		again < 80*time.Millisecond && again+load < 150*time.Millisecond,
		again.Round(time.Millisecond).String()+", and reading the folder "+load.Round(time.Millisecond).String(),
		yard,
	)

	sheets := map[string]*source.Sheet{}
	for _, d := range distinct {
		sheets[d.Digest()] = d.Sheet
	}
	return drifts(s, hosts, digests, sheets)
}

// surveysOfSheet is how many different surveys there are beside each sheet.
const surveysOfSheet = 8

// pair is what a verdict follows from.
type pair struct {
	sheet   string
	variant int
}

// drifts measures what hosts differ in: whole surveys with their sources and keys, each distinct
// pair compared once.
func drifts(s *suite, hosts []resolve.Host, digests []string, sheets map[string]*source.Sheet) error {
	pairs := make([]pair, len(digests))
	surveys := map[pair]*source.Survey{}
	for i, d := range digests {
		pairs[i] = pair{d, i / traitCount % surveysOfSheet}
		if surveys[pairs[i]] == nil {
			surveys[pairs[i]] = &surveyed(sheets[d], hosts[i].Traits, pairs[i].variant).Survey
		}
	}
	memo := map[pair][]drift.Finding{}
	pass := func(of map[string]*source.Sheet) (n int) {
		var new []pair
		for _, k := range pairs {
			if _, known := memo[k]; !known {
				memo[k] = nil
				new = append(new, k)
			}
		}
		found := make([][]drift.Finding, len(new))
		var group errgroup.Group // as the service does it
		workers := runtime.GOMAXPROCS(0)
		for w := range workers {
			group.Go(func() error {
				for i := w; i < len(new); i += workers {
					found[i] = drift.Compare(of[new[i].sheet], surveys[new[i]])
				}
				return nil
			})
		}
		_ = group.Wait() // it compares, and cannot fail
		for i, k := range new {
			memo[k] = found[i]
		}
		for _, k := range pairs {
			n += len(memo[k])
		}
		return n
	}
	drifted := pass(sheets)
	one := digests[0]
	d := median(5, func() {
		for k := range memo {
			if k.sheet == one {
				delete(memo, k)
			}
		}
		pass(sheets)
	})
	turned := map[string]*source.Sheet{}
	for digest, sheet := range sheets {
		other := *sheet
		other.Unlisted = source.UnlistedRemove
		turned[digest] = &other
	}
	more := 0
	all := median(5, func() {
		clear(memo)
		more = pass(turned)
	})
	rows := make(map[string]int, len(digests))
	for i := range digests {
		rows[fmt.Sprintf("node-%06d.brinewick.test", i)] = i
	}
	names := slices.Collect(maps.Keys(rows))
	look := median(5, func() {
		n := 0
		for _, name := range names {
			n += rows[name]
		}
		_ = n
	})
	sources := len(surveys[pairs[len(pairs)-1]].Sources)
	yard := "100,000 map look-ups " + look.Round(time.Microsecond).String()
	s.add("drift of 100,000 hosts after a change to one sheet", "200 ms", d < 200*time.Millisecond,
		fmt.Sprintf("%s, %d distinct pairs, %d sources in one", d.Round(time.Microsecond), len(memo), sources), yard)
	s.add("a rule of drift changed for 100,000 hosts, every pair anew", "200 ms", all < 200*time.Millisecond,
		fmt.Sprintf("%s, %d findings, %d with it", all.Round(time.Millisecond), drifted, more), yard)
	return nil
}
