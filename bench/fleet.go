package main

import (
	"crypto/sha256"
	"fmt"
	"runtime"
	"strings"
	"time"

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

	// Drift: one sheet changes, and every host is compared anew.
	sheets := map[string]*source.Sheet{}
	for _, d := range distinct {
		sheets[d.Digest()] = d.Sheet
	}
	surveys := make([]*source.Survey, 300)
	for i := range surveys {
		sv := &source.Survey{Files: []source.File{}}
		for _, f := range distinct[i%len(distinct)].Sheet.Files {
			sv.Files = append(sv.Files, source.File{Path: f.Path, Mode: f.Mode, Digest: source.Digest([]byte(f.Text))})
		}
		surveys[i] = sv
	}
	type pair struct {
		sheet  string
		survey int
	}
	memo := map[pair][]drift.Finding{}
	pass := func() (n int) {
		for i := range hosts {
			k := pair{digests[i], i % len(surveys)}
			f, ok := memo[k]
			if !ok {
				f = drift.Compare(sheets[k.sheet], surveys[k.survey])
				memo[k] = f
			}
			n += len(f)
		}
		return n
	}
	pass()
	one := digests[0]
	d := median(5, func() {
		for k := range memo {
			if k.sheet == one {
				delete(memo, k)
			}
		}
		pass()
	})
	rows := make(map[string]int, len(hosts))
	for i := range hosts {
		rows[hosts[i].Name] = i
	}
	look := median(5, func() {
		n := 0
		for i := range hosts {
			n += rows[hosts[i].Name]
		}
		_ = n
	})
	s.add(
		"drift of 100,000 hosts after a change to one sheet",
		"200 ms",
		d < 200*time.Millisecond,
		fmt.Sprintf("%s, %d distinct pairs", d.Round(time.Microsecond), len(memo)),
		"100,000 map look-ups "+look.Round(time.Microsecond).String(),
	)
	return nil
}
