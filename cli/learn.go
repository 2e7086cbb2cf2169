package cli

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/learn"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/saved"
)

func (a *app) policyLearn() *cobra.Command {
	var from string
	var leave []string
	cmd := &cobra.Command{
		Use: "learn FOLDER", Short: "Derive a policy folder from what the hosts have", Args: cobra.ExactArgs(1),
		Long: "Derive a policy from what the hosts have: compared with it, none of them has drifted. Repositories\n" +
			"that are the same but for release, architecture or a value are written once, groups are found by\n" +
			"names, labels and traits, keys are taken along and pinned. What only one host has is named; leave\n" +
			"such hosts out with --leave. Read and edit the result: it says what is, not what should be.\n\n" +
			"Without --surveys the fleet's last surveys are taken from the service. The folder must not be there,\nor be empty.",
		Example: "  lantern policy learn ./policy\n  lantern policy learn ./policy --leave desk-1,gw-04\n  lantern survey save ./surveys && " +
			"lantern policy learn ./policy --surveys ./surveys",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := emptyFolder(args[0]); err != nil {
				return err
			}
			hosts, not, err := a.learnFrom(cmd.Context(), from)
			if err != nil {
				return err
			}
			if hosts, err = without(hosts, leave); err != nil {
				return err
			}
			stop := a.waiting("learning")
			res, err := learn.Learn(hosts, time.Now())
			stop()
			if err != nil {
				return no("%v", err)
			}
			for name, text := range res.Files {
				to := filepath.Join(args[0], name)
				if err := writeFile(to, text); err != nil {
					return err
				}
			}
			if done, err := a.json(learntPolicy{*res, append([]string{}, not.Missing...), append([]string{}, not.Silent...)}); done {
				return err
			}
			a.out.Printf(
				"%s from %s: %s, %d of them edited in place, %s. Written to %s.",
				a.out.Paint(view.Bold, "Learnt"),
				view.Count(res.Hosts, "host", "hosts"),
				view.Count(res.Repositories, "repository", "repositories"),
				res.InPlace,
				view.Count(res.Keys, "key", "keys"),
				args[0],
			)
			not.told(a.out)
			a.notes(a.out, res.Notes)
			a.out.Printf("Next: read and edit it, then lantern policy check %s", args[0])
			return nil
		},
	}
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys, instead of the fleet")
	cmd.Flags().Var(namesFlag{&leave}, "leave", "hosts that are not followed; ranges as gw-{01..04}.brinewick.test")
	return cmd
}

// learntPolicy is what policy learn says as JSON.
type learntPolicy struct {
	learn.Result
	Missing []string `json:"missing" doc:"Hosts that have sent no survey, and are not in it"`
	Silent  []string `json:"silent"  doc:"Hosts of which it is what they had when they were heard last"`
}

// learnFrom reads saved surveys, or those of the fleet.
func (a *app) learnFrom(ctx context.Context, from string) (out []saved.Snapshot, not unheard, err error) {
	if from != "" {
		out, err = surveys(from)
		return out, not, err
	}
	p := a.counting("reading the fleet's surveys", 0)
	defer p.stop()
	not, err = a.eachSurvey(ctx, client.List{}, p, func(s saved.Snapshot) error { out = append(out, s); return nil })
	if err == nil && len(out) == 0 {
		err = no("no host has sent a survey yet")
	}
	return out, not, err
}

// notes says each thing that people should look at once, with the hosts that it is so on.
func (a *app) notes(p *view.Out, list []learn.Note) {
	hosts := map[string][]string{}
	var order []string
	for _, n := range list {
		if hosts[n.Message] == nil {
			order = append(order, n.Message)
		}
		hosts[n.Message] = append(hosts[n.Message], n.Host)
	}
	for _, m := range order {
		p.Printf("%s%s: %s", p.Paint(view.Yellow, "! "), someNames(hosts[m], 6), m)
	}
}

// without leaves hosts out, by full or short name.
func without(hosts []saved.Snapshot, leave []string) ([]saved.Snapshot, error) {
	drop := map[string]bool{}
	for _, pattern := range leave {
		list, err := names.Expand(pattern)
		if err != nil {
			return nil, wrong("%v", err)
		}
		for _, n := range list {
			if !slices.ContainsFunc(hosts, func(h saved.Snapshot) bool { return h.Host == n || short(h.Host) == n }) {
				return nil, wrong("there is no survey of %q to leave out", n)
			}
			drop[n] = true
		}
	}
	out := slices.DeleteFunc(slices.Clone(hosts), func(h saved.Snapshot) bool { return drop[h.Host] || drop[short(h.Host)] })
	if len(out) == 0 {
		return nil, wrong("every host is left out")
	}
	return out, nil
}
