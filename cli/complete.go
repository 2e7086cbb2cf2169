package cli

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/condition"
)

// known lists those words that the service knows and that may begin with what is typed.
type known func(ctx context.Context, c *client.Client, typed string) ([]string, error)

// completing makes a completion of words that the service knows. One that cannot ask, or is not
// answered, completes nothing. Of a list with commas the last word is completed.
func (a *app) completing(of known) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		if a.settle(cmd, "") != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		comma := strings.LastIndexByte(typed, ',') + 1
		list, err := of(cmd.Context(), a.client(), typed[comma:])
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, w := range list {
			if strings.HasPrefix(w, typed[comma:]) {
				out = append(out, typed[:comma]+w)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

// first completes the first argument only.
func first(complete cobra.CompletionFunc) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return complete(cmd, args, typed)
	}
}

// hostNames asks for those that may be meant: of a large fleet the first thousand hold nobody's host.
func hostNames(ctx context.Context, c *client.Client, typed string) (out []string, err error) {
	page, err := c.Hosts(ctx, client.List{Query: typed, Sort: "name", PerPage: 1000})
	for _, h := range page.Hosts {
		out = append(out, short(h.Name))
	}
	return out, err
}

func groupNames(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Groups(ctx, client.List{PerPage: 1000})
	for _, g := range page.Groups {
		out = append(out, g.Name)
	}
	return out, err
}

// completeHosts completes the name of the one host that a command is about.
func (a *app) completeHosts(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return first(a.completing(hostNames))(cmd, args, typed)
}

// completeEveryHost completes names of hosts, as many as there are.
func (a *app) completeEveryHost(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return a.completing(hostNames)(cmd, args, typed)
}

// completeGroups completes names of groups of the newest revision.
func (a *app) completeGroups(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return a.completing(groupNames)(cmd, args, typed)
}

// completeTo completes hosts and groups.
func (a *app) completeTo(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return a.completing(func(ctx context.Context, c *client.Client, typed string) ([]string, error) {
		groups, err := groupNames(ctx, c, typed)
		if err != nil {
			return nil, err
		}
		hosts, err := hostNames(ctx, c, typed)
		return append(groups, hosts...), err
	})(cmd, args, typed)
}

// completeFacts completes the name of what a condition may look at.
func completeFacts(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return condition.Names(), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// completeExplained completes a host, then its repositories and files: those of the policy, and whatever else the
// host's sources stand in.
func (a *app) completeExplained(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeHosts(cmd, args, typed)
	}
	return a.completing(func(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
		e, err := c.Explain(ctx, args[0], 0)
		if err != nil {
			return nil, err
		}
		for _, r := range e.Repositories {
			out = append(out, r.Name)
		}
		for _, f := range e.Files {
			out = append(out, f.Path)
			if typed != "" {
				out = append(out, path.Base(f.Path))
			}
		}
		h, err := c.Host(ctx, args[0])
		for i := range h.Sources {
			out = append(out, h.Sources[i].File)
		}
		slices.Sort(out)
		return slices.Compact(out), err
	})(cmd, args, typed)
}

func rolloutNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Rollouts(ctx, client.List{PerPage: 100})
	for _, r := range page.Rollouts {
		out = append(out, numbered(r.ID, r.Kind+" of revision "+strconv.FormatInt(r.Revision, 10)))
	}
	return out, err
}

func revisionNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Revisions(ctx, client.List{PerPage: 100})
	for _, r := range page.Revisions {
		out = append(out, numbered(r.Number, r.Message))
	}
	return out, err
}

func keyNames(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Keys(ctx, false, client.List{PerPage: 500})
	for _, k := range page.Keys {
		out = append(out, cmp.Or(k.Policy, k.Fingerprint))
	}
	return out, err
}

func repositoryNames(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Repositories(ctx, client.List{PerPage: 500})
	for _, r := range page.Repositories {
		out = append(out, r.Names...)
	}
	return out, err
}

func accountNames(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	list, err := c.Accounts(ctx)
	for _, x := range list.Accounts {
		out = append(out, x.Name)
	}
	return out, err
}

func operatorNames(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	list, err := c.Operators(ctx)
	for _, x := range list.Operators {
		out = append(out, x.Name)
	}
	return out, err
}

func contractNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Contracts(ctx, client.List{PerPage: 1000})
	for i := range page.Contracts {
		out = append(out, page.Contracts[i].Number)
	}
	return out, err
}

func proposalNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Proposals(ctx, client.List{PerPage: 100})
	for _, p := range page.Proposals {
		out = append(out, numbered(p.Number, p.Message))
	}
	return out, err
}

func freezeNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	list, err := c.Freezes(ctx)
	for _, f := range list.Freezes {
		out = append(out, numbered(f.ID, f.Group))
	}
	return out, err
}

func waiverNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Waivers(ctx, false, client.List{PerPage: 1000})
	for _, w := range page.Waivers {
		out = append(out, numbered(w.ID, w.Because))
	}
	return out, err
}

func webhookNumbers(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	list, err := c.Webhooks(ctx)
	for _, w := range list.Webhooks {
		out = append(out, numbered(w.ID, w.URL))
	}
	return out, err
}

func shelfNames(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	list, err := c.Shelves(ctx)
	for _, x := range list.Shelves {
		out = append(out, x.Name)
	}
	return out, err
}

// withdrawnKeys are those that the newest revision withdraws.
func withdrawnKeys(ctx context.Context, c *client.Client, _ string) (out []string, err error) {
	page, err := c.Keys(ctx, true, client.List{PerPage: 500})
	for _, k := range page.Keys {
		if k.Withdrawn != "" {
			out = append(out, cmp.Or(k.Policy, k.Fingerprint))
		}
	}
	return out, err
}

// numbered is a number with what it is about, as shells show it.
func numbered(n int64, about string) string {
	return strconv.FormatInt(n, 10) + "\t" + strings.Join(strings.Fields(about), " ")
}

// complete gives the commands that take a name the words that the service knows.
func (a *app) complete(root *cobra.Command) {
	for _, x := range []struct {
		of       known
		flag     string // empty: the first argument
		commands []string
	}{
		{rolloutNumbers, "", []string{
			"rollout show", "rollout hold", "rollout proceed", "rollout consent", "rollout back-out", "rollout stop",
		}},
		{rolloutNumbers, "rollout", []string{"rollout skip"}},
		{revisionNumbers, "", []string{"policy fetch", "policy restore"}},
		{revisionNumbers, "revision", []string{"policy preview", "rollout begin", "rollout plan", "explain", "host export"}},
		{keyNames, "", []string{"key show", "key retire", "key withdraw"}},
		{repositoryNames, "", []string{"repository show", "repository probe"}},
		{repositoryNames, "repository", []string{"drift"}},
		{accountNames, "", []string{"account remove"}},
		{accountNames, "account", []string{"seat take", "seat release", "seat list", "contract list"}},
		{operatorNames, "", []string{"operator remove"}},
		{operatorNames, "by", []string{"audit list"}},
		{groupNames, "", []string{"freeze add"}},
		{freezeNumbers, "", []string{"freeze end"}},
		{waiverNumbers, "", []string{"waiver end"}},
		{webhookNumbers, "", []string{"webhook try", "webhook remove"}},
		{shelfNames, "", []string{"shelf remove"}},
		{proposalNumbers, "", []string{"proposal show", "proposal agree", "proposal fetch", "proposal publish", "proposal withdraw"}},
		{withdrawnKeys, "believe", []string{"policy publish", "policy restore"}},
		{contractNumbers, "contract", []string{"seat take", "seat list"}},
	} {
		for _, command := range x.commands {
			cmd, _, err := root.Find(strings.Fields(command))
			must(err)
			if x.flag != "" {
				must(cmd.RegisterFlagCompletionFunc(x.flag, a.completing(x.of)))
			} else {
				cmd.ValidArgsFunction = first(a.completing(x.of))
			}
		}
	}
	adopt, _, err := root.Find([]string{"policy", "adopt"})
	must(err)
	adopt.ValidArgsFunction = func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		hosts, _ := a.completeEveryHost(cmd, args, typed)
		return hosts, cobra.ShellCompDirectiveDefault // and the folder
	}
}
