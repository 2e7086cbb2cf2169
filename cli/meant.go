package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/names"
)

// meant says which hosts a command is about: names and ranges as its arguments, groups, a
// condition. All that is given must hold; among names and groups one is enough.
type meant struct {
	groups []string
	where  string
}

func (m *meant) add(a *app, cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&m.groups, "group", nil, "only hosts of these groups of the policy")
	cmd.Flags().StringVar(&m.where, "where", "", "only hosts for which this condition holds, as in policies: 'os.major >= 12'")
	must(cmd.RegisterFlagCompletionFunc("group", a.completeGroups))
	must(cmd.RegisterFlagCompletionFunc("where", completeFacts))
}

// some reports whether anything is asked for beside names.
func (m *meant) some() bool { return len(m.groups) > 0 || m.where != "" }

// apart are the names and ranges of a command's words, in which commas part them as well.
func apart(words []string) (out []string) {
	for _, w := range words {
		out = append(out, names.Apart(w)...)
	}
	return out
}

// namesFlag is a flag that takes lists of names and ranges, and may be given more than once.
type namesFlag struct{ list *[]string }

func (f namesFlag) Set(list string) error {
	*f.list = append(*f.list, names.Apart(list)...)
	return nil
}

func (f namesFlag) String() string {
	if f.list == nil {
		return ""
	}
	return strings.Join(*f.list, ",")
}

func (f namesFlag) Type() string { return "strings" }

// several reports whether more than one host may be meant.
func (m *meant) several(names []string) bool {
	names = apart(names)
	return len(names) != 1 || m.some() || strings.ContainsAny(names[0], "{}")
}

// into has a list speak of these hosts only.
func (m *meant) into(l *client.List, names []string) {
	l.To, l.Where = append(apart(names), m.groups...), m.where
}

// hosts are the hosts that are meant, by name. One that is named in full is not looked up: who
// is asked about it knows best.
func (m *meant) hosts(ctx context.Context, a *app, names []string) ([]string, error) {
	plain, names := !m.some(), apart(names)
	for _, n := range names {
		plain = plain && !strings.ContainsAny(n, "{}")
	}
	if plain {
		if len(names) == 0 {
			return nil, wrong("say which hosts: names, ranges as gw-{01..04}, --group or --where")
		}
		return names, nil
	}
	l := client.List{PerPage: 1000, Page: 1}
	m.into(&l, names)
	var out []string
	for {
		page, err := a.client().Hosts(ctx, l)
		if err != nil {
			return nil, err
		}
		for _, h := range page.Hosts {
			out = append(out, h.Name)
		}
		if page.Next == 0 {
			if page.Unknown > 0 {
				a.errOut.Printf("%s%s", a.errOut.Paint(view.Yellow, "? "), whether(page.Unknown))
			}
			if len(out) == 0 {
				return nil, no("no host is meant: none of the fleet is as you say")
			}
			return out, nil
		}
		l.Page = page.Next
	}
}

// agreed are the hosts that are meant, where it costs something: those that a range, a group or a condition
// means are shown first, unless somebody says yes.
func (m *meant) agreed(ctx context.Context, a *app, names []string, yes bool, would string) ([]string, error) {
	names = apart(names)
	hosts, err := m.hosts(ctx, a, names)
	if err == nil && !yes && len(hosts) > 1 && !slices.Equal(hosts, names) {
		err = no("%s %s: %s; say --yes", view.Count(len(hosts), "host", "hosts"), would, someNames(hosts, 12))
	}
	return hosts, err
}

// each does something for every host that is meant, and goes on where it fails for one. The
// error tells how many failed; the first of them is said in full.
func (m *meant) each(ctx context.Context, a *app, names []string, do func(host string) error) error {
	hosts, err := m.hosts(ctx, a, names)
	if err != nil {
		return err
	}
	return a.eachOf(ctx, hosts, do)
}

// eachOf is each for hosts that were looked up.
func (a *app) eachOf(ctx context.Context, hosts []string, do func(host string) error) error {
	if len(hosts) == 1 {
		return do(hosts[0])
	}
	failed := 0
	for _, h := range hosts {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := do(h); err != nil {
			failed++
			a.errOut.Printf("%s%s: %s", a.errOut.Paint(view.Red, "lantern: "), short(h), err.Error())
		}
	}
	if failed > 0 {
		return no("not done for %d of %s", failed, view.Count(len(hosts), "host", "hosts"))
	}
	return nil
}

// every does something for every host that is meant, and answers with what came of each: one thing
// where one host is named, and else a list, however many it comes to. Where it fails for some, the
// others are answered all the same.
func every[T any](ctx context.Context, a *app, m *meant, names []string, do func(host string) (T, error), show func(*T)) error {
	hosts, err := m.hosts(ctx, a, names)
	if err != nil {
		return err
	}
	return everyOf(ctx, a, hosts, !m.several(names), do, show)
}

// everyOf is every for hosts that were looked up; one says that one was named.
func everyOf[T any](ctx context.Context, a *app, hosts []string, one bool, do func(host string) (T, error), show func(*T)) error {
	all := []T{}
	failed := a.eachOf(ctx, hosts, func(h string) error {
		made, err := do(h)
		if err != nil {
			return err
		}
		all = append(all, made)
		if a.format == "table" {
			show(&made)
		}
		return nil
	})
	var err error
	switch {
	case a.format == "table", one && failed != nil:
	case one:
		_, err = a.json(all[0])
	default:
		_, err = a.json(listed[T]{all, len(all)})
	}
	return cmp.Or(err, failed)
}

func whether(unknown int) string {
	return "of " + view.Count(unknown, "host", "hosts") + " it is not known whether they are meant: they have sent no survey, and are left out"
}

// notKnownWhether counts hosts of which it is not known whether a condition holds.
func (a *app) notKnownWhether(unknown int) {
	if unknown > 0 {
		a.out.Printf("%s%s", a.out.Paint(view.Yellow, "? "), whether(unknown))
	}
}
