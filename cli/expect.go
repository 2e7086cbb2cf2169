package cli

import (
	"encoding/xml"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/saved"
)

// checkOn tries a policy on the hosts of saved surveys, if a folder of them is named, and on the
// hosts that its expectations describe.
func checkOn(res *api.CheckResult, p *policy.Policy, from string) error {
	var hosts []saved.Snapshot
	if from != "" {
		var err error
		if hosts, err = surveys(from); err != nil {
			return err
		}
	}
	r := resolveFor(p, hosts)
	res.Looked.Hosts, res.Expectations = r.fleet.Hosts(), r.fleet.Expected()
	if len(res.Expectations) > 0 || len(hosts) > 0 {
		res.Diagnostics = append(res.Diagnostics, r.fleet.Diagnostics()...)
	}
	return nil
}

// expectedSays counts expectations, those that were not tried too.
func expectedSays(list []reason.Expected) string {
	if len(list) == 0 {
		return ""
	}
	text := ", " + view.Count(len(list), "expectation", "expectations")
	if n := countExpected(list, reason.ExpectNotTried); n > 0 {
		text += fmt.Sprintf(" (%d not tried)", n)
	}
	return text
}

func countExpected(list []reason.Expected, state string) (n int) {
	for i := range list {
		if list[i].State == state {
			n++
		}
	}
	return n
}

func (a *app) policyTest() *cobra.Command {
	var from string
	var fleet bool
	cmd := &cobra.Command{
		Use: "test FOLDER", Short: "Try what the team expects of a policy, and say why it is not so", Args: cobra.ExactArgs(1),
		Long: "Try each expectation that stands under expect: in the folder. Those that describe a host of their own need nothing else;\n" +
			"those about the fleet are tried on saved surveys with --surveys, or on the service's hosts with --fleet. One that could not\n" +
			"be tried does not hold: the exit status is 0 only where all were tried and hold. policy check and policy publish try them\n" +
			"too. --format junit prints JUnit's XML, which pipelines read.",
		Example: "  lantern policy test ./policy\n  lantern policy test ./policy --fleet\n" +
			"  lantern policy test ./policy --surveys ./surveys --format junit > expectations.xml",
		Annotations: map[string]string{moreFormats: "junit"},
		RunE: func(cmd *cobra.Command, args []string) error {
			res, about, err := a.tested(cmd, args[0], from, fleet)
			if err != nil {
				return err
			}
			list := res.Expectations
			switch a.format {
			case "junit":
				if err := a.junit(args[0], list); err != nil {
					return err
				}
			case "table":
				for i := range list {
					a.expected(&list[i])
				}
			default:
				if _, err := a.json(listed[reason.Expected]{list, len(list)}); err != nil {
					return err
				}
			}
			if !about {
				res.Looked.Unknown = 0 // no expectation is about them
			}
			return a.testEnds(args[0], list, res.Looked.Unknown, fleet || from != "")
		},
	}
	listing(cmd)
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys to try it on")
	cmd.Flags().BoolVar(&fleet, "fleet", false, "try it on the service's hosts")
	cmd.MarkFlagsMutuallyExclusive("surveys", "fleet")
	return cmd
}

// tested tries the expectations of a folder, and tells whether any is about the fleet. Other
// errors in it are told first.
func (a *app) tested(cmd *cobra.Command, dir, from string, fleet bool) (res api.CheckResult, about bool, err error) {
	p, err := a.loaded(dir)
	if err != nil {
		return res, false, err
	}
	about = slices.ContainsFunc(p.Expectations, func(x *policy.Expectation) bool { return x.Host == nil })
	if !fleet {
		err = checkOn(&res, p, from)
	} else {
		f, _, err := folder(dir)
		if err != nil {
			return res, about, err
		}
		if res, err = a.client().Check(cmd.Context(), api.Publication{Files: f}); err != nil {
			return res, about, err
		}
	}
	var bad []diag.Diagnostic
	for _, d := range diag.Errors(res.Diagnostics) {
		if d.Code != "expectation" {
			bad = append(bad, d)
		}
	}
	if err == nil && len(bad) > 0 {
		if a.format == "table" {
			a.diagnostics(dir, bad)
		}
		err = no("%s in %s beside what is expected", view.Count(len(bad), "error", "errors"), dir)
	}
	return res, about, err
}

// testEnds says how many expectations hold, fail and were not tried, and on how many hosts it is
// not known, because they have sent no survey; onHosts: hosts were given to try them on.
func (a *app) testEnds(dir string, list []reason.Expected, unknown int, onHosts bool) error {
	fails, untried := countExpected(list, reason.ExpectFails), countExpected(list, reason.ExpectNotTried)
	switch {
	case len(list) == 0:
		return no("%s says nothing under expect:, so there is nothing to test", dir)
	case fails+untried == 0 && unknown > 0:
		return no("%s on the hosts that are known; %s sent no survey, so on them they were not tried",
			view.Count(len(list), "expectation holds", "expectations hold"), view.Count(unknown, "host has", "hosts have"))
	case fails+untried == 0:
		if a.format == "table" {
			says := "The expectation holds."
			if len(list) > 1 {
				says = fmt.Sprintf("All %d expectations hold.", len(list))
			}
			a.out.Printf("%s", a.out.Paint(view.Green, says))
		}
		return nil
	}
	var said []string
	if fails > 0 {
		said = append(said, view.Count(fails, "does not hold", "do not hold"))
	}
	switch {
	case untried > 0 && onHosts:
		said = append(said, fmt.Sprintf("%d could not be tried on these hosts, for the reasons that stand beside them", untried))
	case untried > 0:
		said = append(said, fmt.Sprintf("%d could not be tried: try them on hosts, with --surveys FOLDER or --fleet", untried))
	}
	if unknown > 0 {
		said = append(said, view.Count(unknown, "host has", "hosts have")+" sent no survey, so on them nothing was tried")
	}
	return no("of %s %s", view.Count(len(list), "expectation", "expectations"), strings.Join(said, ", "))
}

// expected shows what one expectation came to, and why.
func (a *app) expected(x *reason.Expected) {
	look := map[string]struct {
		sign  string
		style view.Style
	}{
		reason.ExpectHolds: {"✓ holds    ", view.Green}, reason.ExpectFails: {"✗ fails    ", view.Red},
		reason.ExpectNotTried: {"? not tried", view.Yellow},
	}[x.State]
	on := ""
	switch {
	case x.State == reason.ExpectHolds:
		on = "on " + view.Count(x.Held, "host", "hosts")
	case x.State == reason.ExpectFails && x.Held+x.Failed+x.Untold > 1:
		on = fmt.Sprintf("on %d of %s", x.Failed, view.Count(x.Held+x.Failed+x.Untold, "host", "hosts"))
	}
	if x.Untold > 0 {
		on = strings.TrimSpace(fmt.Sprintf("%s  not told on %d", on, x.Untold))
	}
	a.out.Printf("%s  %s  %s", a.out.Paint(look.style, look.sign), a.out.Paint(view.Bold, x.That),
		a.out.Paint(view.Dim, strings.TrimSpace(on+"  "+x.Place.String())))
	if x.Why != "" {
		a.out.Printf("%s", a.out.Wrap(5, x.Why))
	}
	for i := 0; i < len(x.First); i++ {
		u, names := x.First[i], x.First[i].Host
		for i+1 < len(x.First) && reflect.DeepEqual(alike(u), alike(x.First[i+1])) { // for the same reason
			i++
			names += ", " + short(x.First[i].Host)
		}
		a.out.Printf("%s", a.out.Wrap(5, a.out.Paint(view.Bold, names)+": "+strings.Join(u.Instead, "; ")))
		for _, r := range u.Reasons {
			a.out.Printf("       %s is %s:", r.Repository, r.State)
			a.causes(10, r.Causes)
		}
	}
	if more := x.Failed - len(x.First); more > 0 {
		a.out.Printf("     %s", a.out.Paint(view.Dim, fmt.Sprintf("and so on %s", view.Count(more, "more host", "more hosts"))))
	}
}

// alike is what is so of a host, whichever it is.
func alike(u reason.Unexpected) reason.Unexpected {
	u.Host = ""
	return u
}

// The elements of JUnit's XML, as pipelines read it.
type junitSuites struct {
	XMLName xml.Name   `xml:"testsuites"`
	Suite   junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Time     string      `xml:"timestamp,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name      string        `xml:"name,attr"`
	ClassName string        `xml:"classname,attr"`
	File      string        `xml:"file,attr"`
	Line      int           `xml:"line,attr"`
	Failure   *junitFailure `xml:"failure,omitempty"`
	Skipped   *junitFailure `xml:"skipped,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (a *app) junit(dir string, list []reason.Expected) error {
	s := junitSuite{
		Name: dir, Tests: len(list), Failures: countExpected(list, reason.ExpectFails),
		Skipped: countExpected(list, reason.ExpectNotTried), Time: time.Now().UTC().Format("2006-01-02T15:04:05"),
	}
	for i := range list {
		x := &list[i]
		c := junitCase{Name: x.That, ClassName: dir, File: x.Place.File, Line: x.Place.Line}
		switch x.State {
		case reason.ExpectNotTried:
			c.Skipped = &junitFailure{Message: x.Why}
		case reason.ExpectFails:
			c.Failure = &junitFailure{Message: fmt.Sprintf("does not hold on %d of %d hosts", x.Failed, x.Held+x.Failed+x.Untold)}
			for _, u := range x.First {
				c.Failure.Text += u.Host + ": " + strings.Join(u.Instead, "; ") + "\n"
				for _, r := range u.Reasons {
					for _, why := range r.Causes {
						c.Failure.Text += "  " + r.Repository + ": " + why.What
						if why.At != nil {
							c.Failure.Text += " (" + why.At.String() + ")"
						}
						c.Failure.Text += "\n"
					}
				}
			}
		}
		s.Cases = append(s.Cases, c)
	}
	text, err := xml.MarshalIndent(junitSuites{Suite: s}, "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(a.out.JSON(), "%s%s\n", xml.Header, text)
	return err
}
