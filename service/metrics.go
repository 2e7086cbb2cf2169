package service

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/register"
)

type metrics struct {
	registry *prometheus.Registry
	checkIns prometheus.Counter
	changed  prometheus.Counter
	refused  *prometheus.CounterVec
	crashed  *prometheus.CounterVec
}

func newMetrics(s *Service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		checkIns: prometheus.NewCounter(prometheus.CounterOpts{Name: "lantern_check_ins_total", Help: "Check-ins of agents."}),
		changed: prometheus.NewCounter(
			prometheus.CounterOpts{Name: "lantern_check_ins_changed_total", Help: "Check-ins that changed what is stored of a host."},
		),
		refused: prometheus.NewCounterVec(
			prometheus.CounterOpts{Name: "lantern_refused_total", Help: "Calls that were refused."},
			[]string{"who"},
		),
		crashed: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "lantern_worker_crashes_total",
				Help: "Crashes of what the service does beside its calls; each was begun again.",
			},
			[]string{"worker"},
		),
	}
	states := &stateCollector{s.Fleet, time.Now, s.ByState, s.grouper, s.Opts.CertEnds}
	m.registry.MustRegister(m.checkIns, m.changed, m.refused, m.crashed, states,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Refused counts a call that was refused, by who was: operator, agent, join and the like.
func (s *Service) Refused(who string) { s.metrics.refused.WithLabelValues(who).Inc() }

var (
	hostsDesc   = prometheus.NewDesc("lantern_hosts", "Hosts by state.", []string{"state"}, nil)
	unknownDesc = prometheus.NewDesc(
		"lantern_hosts_not_known",
		"Hosts of which it is not known whether they are as the policy says, and why not.",
		[]string{"why"},
		nil,
	)
	findingsDesc = prometheus.NewDesc("lantern_findings", "Findings by severity.", []string{"severity"}, nil)
	classesDesc  = prometheus.NewDesc(
		"lantern_hosts_with_findings",
		"Hosts that have a finding of a class and severity.",
		[]string{"class", "severity"},
		nil,
	)
	certEndDesc = prometheus.NewDesc(
		"lantern_certificate_end_timestamp_seconds",
		"When the certificate of this service ends; absent where it speaks no TLS itself.",
		nil,
		nil,
	)
	keyEndDesc = prometheus.NewDesc(
		"lantern_next_key_end_timestamp_seconds",
		"When the next source of any host loses its last signing key; absent where none does.",
		nil,
		nil,
	)
)

var (
	groupHostsDesc = prometheus.NewDesc("lantern_group_hosts", "Hosts of a group of the newest revision by state.",
		[]string{"group", "state"}, nil)
	groupClassesDesc = prometheus.NewDesc("lantern_group_hosts_with_findings",
		"Hosts of a group of the newest revision that have a finding of a class and severity.", []string{"group", "class", "severity"}, nil)
	groupUnknownDesc = prometheus.NewDesc("lantern_hosts_in_groups_not_known",
		"Hosts of which it is not known in which groups they are: they have told nothing of themselves, or nothing is published.", nil, nil)
)

var placesDesc = prometheus.NewDesc(
	"lantern_repositories",
	"Places that packages come from, by what the service saw there; unknown: it was not looked at.",
	[]string{"state"},
	nil,
)

// stateCollector counts hosts and findings when it is asked.
type stateCollector struct {
	fleet *fleet.Fleet
	now   func() time.Time

	places func(context.Context) map[string]int
	groups func(context.Context) func(*fleet.View) (groups []string, known bool)

	certEnds func() time.Time
}

func (c *stateCollector) Describe(ch chan<- *prometheus.Desc) {
	ch <- hostsDesc
	ch <- findingsDesc
	ch <- unknownDesc
	ch <- classesDesc
	ch <- keyEndDesc
	ch <- certEndDesc
	ch <- placesDesc
	ch <- groupHostsDesc
	ch <- groupClassesDesc
	ch <- groupUnknownDesc
}

func (c *stateCollector) Collect(ch chan<- prometheus.Metric) {
	states := map[string]int{}
	for _, s := range api.States {
		states[s] = 0
	}
	severities := map[string]int{"danger": 0, "fault": 0, "note": 0}
	now := c.now()
	var counted register.Tally
	var keyEnd time.Time
	classes := map[[2]string]int{}
	byGroup := newGroupCounts(c.groups(context.Background()))
	for _, h := range c.fleet.All() {
		st := h.State(now)
		states[st]++
		v := h.Row()
		counted.Add(v, st)
		byGroup.add(v, st)
		for _, f := range v.Findings {
			severities[f.Severity]++
		}
		for of := range kindsOf(v) {
			classes[of]++
		}
		if !v.KeyEnds.IsZero() && (keyEnd.IsZero() || v.KeyEnds.Before(keyEnd)) {
			keyEnd = v.KeyEnds
		}
	}
	for st, n := range c.places(context.Background()) {
		ch <- prometheus.MustNewConstMetric(placesDesc, prometheus.GaugeValue, float64(n), st)
	}
	byGroup.collect(ch)
	for of, n := range classes {
		ch <- prometheus.MustNewConstMetric(classesDesc, prometheus.GaugeValue, float64(n), of[0], of[1])
	}
	if c.certEnds != nil && !c.certEnds().IsZero() {
		ch <- prometheus.MustNewConstMetric(certEndDesc, prometheus.GaugeValue, float64(c.certEnds().Unix()))
	}
	if !keyEnd.IsZero() {
		ch <- prometheus.MustNewConstMetric(keyEndDesc, prometheus.GaugeValue, float64(keyEnd.Unix()))
	}
	for s, n := range states {
		ch <- prometheus.MustNewConstMetric(hostsDesc, prometheus.GaugeValue, float64(n), s)
	}
	t := counted.Sums()
	for why, n := range map[string]int{
		"failed":         t.Failed,
		"silent":         t.Silent,
		"changing":       t.Changing,
		"no-survey":      t.NoSurvey,
		"no-revision":    t.NoRevision,
		"not-refreshed":  t.Unfetched,
		"older-revision": t.Older,
		"unread":         t.Unread,
	} {
		ch <- prometheus.MustNewConstMetric(unknownDesc, prometheus.GaugeValue, float64(n), why)
	}
	for s, n := range severities {
		ch <- prometheus.MustNewConstMetric(findingsDesc, prometheus.GaugeValue, float64(n), s)
	}
}

// groupCounts counts hosts by group.
type groupCounts struct {
	groups  func(*fleet.View) ([]string, bool)
	states  map[[2]string]int
	classes map[[3]string]int
	unknown int
}

func newGroupCounts(groups func(*fleet.View) ([]string, bool)) *groupCounts {
	return &groupCounts{groups: groups, states: map[[2]string]int{}, classes: map[[3]string]int{}}
}

func (c *groupCounts) add(v *fleet.View, state string) {
	groups, known := c.groups(v)
	if !known {
		c.unknown++
	}
	for _, g := range groups {
		c.states[[2]string{g, state}]++
		for of := range kindsOf(v) {
			c.classes[[3]string{g, of[0], of[1]}]++
		}
	}
}

func (c *groupCounts) collect(ch chan<- prometheus.Metric) {
	for of, n := range c.states {
		ch <- prometheus.MustNewConstMetric(groupHostsDesc, prometheus.GaugeValue, float64(n), of[0], of[1])
	}
	for of, n := range c.classes {
		ch <- prometheus.MustNewConstMetric(groupClassesDesc, prometheus.GaugeValue, float64(n), of[0], of[1], of[2])
	}
	ch <- prometheus.MustNewConstMetric(groupUnknownDesc, prometheus.GaugeValue, float64(c.unknown))
}

// grouper tells in which groups of the newest revision hosts are.
func (s *Service) grouper(ctx context.Context) func(*fleet.View) (groups []string, known bool) {
	rs, _, err := s.Newest(ctx)
	return func(v *fleet.View) ([]string, bool) {
		if err != nil || rs == nil {
			return nil, false
		}
		h, err := s.Compute.HostOf(ctx, v)
		if err != nil {
			return nil, false
		}
		return s.Compute.GroupsOf(rs, h), true
	}
}

// kindsOf are the classes and severities of a host's findings.
func kindsOf(v *fleet.View) map[[2]string]bool {
	if len(v.Findings) == 0 {
		return nil
	}
	out := map[[2]string]bool{}
	for i := range v.Findings {
		out[[2]string{v.Findings[i].Class, v.Findings[i].Severity}] = true
	}
	return out
}
