package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func (a *app) channel() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "channel",
		Short:   "Channels: the choices between repositories that stand for each other",
		GroupID: "contracts",
		Example: "  lantern channel list\n  lantern channel list --variants --format json",
	}
	lists(cmd, a.channelList())
	return cmd
}

func (a *app) channelList() *cobra.Command {
	var l listFlags
	var q string
	var variants bool
	cmd := &cobra.Command{
		Use: "list", Short: "List channels: what opens each choice, its versions and support, who follows it", Args: cobra.NoArgs,
		Long: "List the channels of the newest revision. Moving a group from one choice to another is one\nline of the policy: " +
			"channels: { NAME: CHOICE } in the group's assignment. A group that is\n(decided) follows an open choice by a recorded decision. " +
			"Debug and source\nvariants are shown with --variants only.",
		Example: "  lantern channel list\n  lantern channel list --variants --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			filter := map[string][]string{}
			if variants {
				filter["variants"] = []string{"true"}
			}
			page, err := a.client().Channels(cmd.Context(), client.List{Query: q, Filter: filter, Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Revision == 0 {
				a.out.Printf("Nothing is published yet: lantern policy publish FOLDER")
				return nil
			}
			if len(page.Channels) == 0 {
				a.out.Printf("Revision %d has no such channel.", page.Revision)
				return nil
			}
			var rows [][]view.Cell
			for _, c := range page.Channels {
				name := c.Name
				for _, x := range c.Choices {
					rows = append(rows, a.choiceRow(name, x))
					name = ""
				}
			}
			a.out.Table(
				[]view.Column{
					{Name: "CHANNEL"},
					{Name: "CHOICE"},
					{Name: "REPOSITORY"},
					{Name: "VERSION"},
					{Name: "SUPPORT"},
					{Name: "OPENED BY"},
					{Name: "HOSTS", Right: true},
					{Name: "FOLLOWED BY", Gives: true},
				},
				rows,
			)
			l.more(a, len(page.Channels), page.Total)
			if page.Unknown > 0 {
				a.out.Printf("%s no revision yet, so none of them is counted.", a.unsure(page.Unknown))
			}
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().StringVar(&q, "match", "", "part of the channel's name or title")
	cmd.Flags().BoolVar(&variants, "variants", false, "debug and source variants as well")
	return cmd
}

func (a *app) choiceRow(channel string, x api.ChannelChoice) []view.Cell {
	choice, versions := x.Name, "rolling"
	if x.Variant != "" {
		choice = "  " + x.Variant
	}
	if x.Pinned != "" {
		versions = x.Pinned
	}
	opened := view.Cell{Text: "open to all", Style: view.Plain}
	switch {
	case x.Licensed && len(x.Contracts) > 0:
		opened = view.Cell{Text: x.Contracts[0], Style: view.Green}
		if n := len(x.Contracts) - 1; n > 0 {
			opened.Text += fmt.Sprintf(" + %d", n)
		}
	case x.Licensed:
		opened = view.Cell{Text: "✗ no contract of " + x.Contract, Style: view.Red}
	}
	decided := map[string]string{}
	for _, d := range x.Decision {
		decided[d.Group] = " (decided)"
		if d.Due {
			decided[d.Group] = " (decided, to be looked at again)"
		}
	}
	var by []string
	for _, g := range x.Groups {
		by = append(by, g+decided[g])
	}
	who := strings.Join(by, ", ")
	if who == "" {
		who = "nobody"
	}
	return []view.Cell{
		{Text: channel, Style: view.Bold},
		view.T(choice),
		view.T(x.Repository),
		view.T(versions),
		view.T(x.Support),
		opened,
		view.T(fmt.Sprint(x.Hosts)),
		view.T(who),
	}
}
