package cli

import (
	"context"
	"path"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/condition"
)

// completing makes a completion of words that the service knows. One that cannot ask, or is not
// answered, completes nothing.
func (a *app) completing(words func(ctx context.Context, c *client.Client) ([]string, error)) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		if a.settle(cmd, "") != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		list, err := words(cmd.Context(), a.client())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, w := range list {
			if strings.HasPrefix(w, typed) {
				out = append(out, w)
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

func hostNames(ctx context.Context, c *client.Client) (out []string, err error) {
	page, err := c.Hosts(ctx, client.List{PerPage: 1000})
	for _, h := range page.Hosts {
		out = append(out, short(h.Name))
	}
	return out, err
}

func groupNames(ctx context.Context, c *client.Client) (out []string, err error) {
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
	return a.completing(func(ctx context.Context, c *client.Client) ([]string, error) {
		groups, err := groupNames(ctx, c)
		if err != nil {
			return nil, err
		}
		hosts, err := hostNames(ctx, c)
		return append(groups, hosts...), err
	})(cmd, args, typed)
}

// completeFacts completes the name of what a condition may look at.
func completeFacts(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return condition.Names(), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// completeExplained completes a host, then its files and repositories.
func (a *app) completeExplained(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeHosts(cmd, args, typed)
	}
	return a.completing(func(ctx context.Context, c *client.Client) (out []string, err error) {
		e, err := c.Explain(ctx, args[0], 0)
		for _, r := range e.Repositories {
			out = append(out, r.Name)
		}
		for _, f := range e.Files {
			out = append(out, path.Base(f.Path))
		}
		return out, err
	})(cmd, args, typed)
}

func rolloutNumbers(ctx context.Context, c *client.Client) (out []string, err error) {
	page, err := c.Rollouts(ctx, client.List{PerPage: 100})
	for _, r := range page.Rollouts {
		out = append(out, strconv.FormatInt(r.ID, 10)+"\t"+r.Kind+" of revision "+strconv.FormatInt(r.Revision, 10))
	}
	return out, err
}

func revisionNumbers(ctx context.Context, c *client.Client) (out []string, err error) {
	page, err := c.Revisions(ctx, client.List{PerPage: 100})
	for _, r := range page.Revisions {
		out = append(out, strconv.FormatInt(r.Number, 10)+"\t"+r.Message)
	}
	return out, err
}

func keyNames(ctx context.Context, c *client.Client) (out []string, err error) {
	page, err := c.Keys(ctx, false, client.List{PerPage: 500})
	for _, k := range page.Keys {
		name := k.Fingerprint
		if k.Policy != "" {
			name = k.Policy
		}
		out = append(out, name)
	}
	return out, err
}

func repositoryNames(ctx context.Context, c *client.Client) (out []string, err error) {
	page, err := c.Repositories(ctx, client.List{PerPage: 500})
	for _, r := range page.Repositories {
		out = append(out, r.Names...)
	}
	return out, err
}

func accountNames(ctx context.Context, c *client.Client) (out []string, err error) {
	list, err := c.Accounts(ctx)
	for _, x := range list.Accounts {
		out = append(out, x.Name)
	}
	return out, err
}

func operatorNames(ctx context.Context, c *client.Client) (out []string, err error) {
	list, err := c.Operators(ctx)
	for _, x := range list.Operators {
		out = append(out, x.Name)
	}
	return out, err
}

// complete gives the commands that take a name the words that the service knows.
func (a *app) complete(root *cobra.Command) {
	for words, to := range map[string]struct {
		flag string
		of   func(context.Context, *client.Client) ([]string, error)
	}{
		"rollout show": {of: rolloutNumbers}, "rollout hold": {of: rolloutNumbers}, "rollout proceed": {of: rolloutNumbers},
		"rollout consent": {of: rolloutNumbers}, "rollout back-out": {of: rolloutNumbers}, "rollout stop": {of: rolloutNumbers},
		"policy fetch": {of: revisionNumbers}, "policy restore": {of: revisionNumbers},
		"policy preview": {"revision", revisionNumbers}, "rollout begin": {"revision", revisionNumbers},
		"rollout plan": {"revision", revisionNumbers}, "explain": {"revision", revisionNumbers},
		"key show": {of: keyNames}, "key withdraw": {of: keyNames},
		"repository show": {of: repositoryNames}, "repository probe": {of: repositoryNames}, "drift": {"repository", repositoryNames},
		"account remove": {of: accountNames}, "seat take": {"account", accountNames}, "seat release": {"account", accountNames},
		"seat list": {"account", accountNames}, "contract list": {"account", accountNames},
		"operator remove": {of: operatorNames}, "audit list": {"by", operatorNames}, "freeze add": {of: groupNames},
	} {
		cmd, _, err := root.Find(strings.Fields(words))
		must(err)
		if to.flag != "" {
			must(cmd.RegisterFlagCompletionFunc(to.flag, a.completing(to.of)))
			continue
		}
		cmd.ValidArgsFunction = first(a.completing(to.of))
	}
}
