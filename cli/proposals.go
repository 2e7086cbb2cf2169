package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
)

// proposed is what proposal show prints as JSON.
type proposed struct {
	api.Proposal
	Differences []policy.Difference `json:"differences"`
}

func (a *app) proposal() *cobra.Command {
	cmd := &cobra.Command{
		Use: "proposal", Short: "Policy folders that somebody proposes to publish, and who agrees", GroupID: "policy",
		Long: "A proposal is a policy folder that waits to be published. Where the policy says publishing: { consent: true }, somebody else\n" +
			"must agree to it first. Its files never change; who wants it otherwise proposes another.",
		Example: "  lantern proposal add ./policy -m 'the reef goes back to Saltmarsh 8'\n  lantern proposal show 1\n" +
			"  lantern proposal agree 1\n  lantern proposal publish 1",
	}
	lists(cmd, a.proposalList())
	cmd.AddCommand(a.proposalAdd(), a.proposalShow(), a.proposalFetch(), a.proposalAgree(), a.proposalPublish(), a.proposalWithdraw())
	return cmd
}

func (a *app) proposalList() *cobra.Command {
	var l listFlags
	var all bool
	cmd := &cobra.Command{
		Use: "list", Short: "List proposals that are open, and what each lacks", Args: cobra.NoArgs,
		Example: "  lantern proposal list\n  lantern proposal list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			filter := map[string][]string{}
			if !all {
				filter["open"] = []string{"true"}
			}
			page, err := a.client().Proposals(cmd.Context(), client.List{Filter: filter, Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Total == 0 {
				a.out.Printf("Nothing is proposed: lantern proposal add FOLDER")
				return nil
			}
			var rows [][]view.Cell
			for i := range page.Proposals {
				p := &page.Proposals[i]
				rows = append(rows, []view.Cell{
					view.T(fmt.Sprint(p.Number)), view.T(local(p.Created)), view.T(p.Author), proposalState(p), view.T(p.Message),
				})
			}
			a.out.Table([]view.Column{
				{Name: "PROPOSAL", Right: true}, {Name: "MADE"}, {Name: "BY"}, {Name: "STATE"}, {Name: "MESSAGE", Gives: true},
			}, rows)
			l.more(a, len(page.Proposals), page.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().BoolVar(&all, "all", false, "those too that were published or withdrawn")
	return cmd
}

// proposalState says how a proposal stands.
func proposalState(p *api.Proposal) view.Cell {
	switch {
	case p.State == api.ProposalPublished:
		return view.Cell{Text: fmt.Sprintf("became revision %d", p.Revision), Style: view.Green}
	case p.State != api.ProposalOpen:
		return view.Cell{Text: p.State, Style: view.Dim}
	case p.Lacks != "":
		return view.Cell{Text: "! lacks " + strings.TrimPrefix(p.Lacks, "to be "), Style: view.Yellow}
	case p.Agreed != "":
		return view.Cell{Text: p.Agreed + " agreed", Style: view.Green}
	}
	return view.T("open")
}

func proposalNumber(text string) (n int64, err error) {
	if _, err := fmt.Sscanf(text, "%d", &n); err != nil || n < 1 || fmt.Sprint(n) != text {
		return 0, wrong("%q is not the number of a proposal; `lantern proposal list` shows them", text)
	}
	return n, nil
}

func (a *app) proposalAdd() *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use: "add FOLDER", Short: "Propose a policy folder", Args: cobra.ExactArgs(1),
		Example: "  lantern proposal add ./policy -m 'the reef goes back to Saltmarsh 8'\n" +
			"  lantern proposal add ./policy -m 'the reef stays at Saltmarsh 8 until spring' --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(strings.TrimSpace(message)) < 3 {
				return wrong("say with --message what changes and why: somebody else has to understand it")
			}
			f, diags, err := a.sent(args[0])
			if err != nil {
				return err
			}
			if diag.HasErrors(diags) {
				a.diagnostics(args[0], diags)
				return no("the policy has errors; nothing was proposed")
			}
			p, err := a.client().Propose(cmd.Context(), api.ProposalOrder{Files: f, Message: message})
			if err != nil {
				return err
			}
			if done, err := a.json(p); done {
				return err
			}
			a.out.Printf("%s It lacks %s.", a.out.Paint(view.Bold, fmt.Sprintf("Proposal %d.", p.Number)), cmp.Or(p.Lacks, "nothing"))
			a.out.Printf("Others look at it with: lantern proposal show %d", p.Number)
			return nil
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "what changes and why")
	return cmd
}

func (a *app) proposalShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "Say what a proposal would change, in meaning, and what it lacks", Args: cobra.ExactArgs(1),
		Long: "The differences are those to the revision that it was made on. Which hosts it would change says lantern policy preview\n" +
			"of the folder: lantern proposal fetch NUMBER FOLDER writes it.",
		Example: "  lantern proposal show 1\n  lantern proposal show 1 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			p, err := a.client().Proposal(cmd.Context(), n)
			if err != nil {
				return err
			}
			out := proposed{Proposal: p, Differences: []policy.Difference{}}
			after, err := readAgain(p.Files, fmt.Sprintf("proposal %d", n))
			if err != nil {
				return err
			}
			before := &policy.Policy{Notice: policy.DefaultNotice}
			if p.Base > 0 {
				if before, err = a.policyOf(cmd.Context(), fmt.Sprint(p.Base)); err != nil {
					return err
				}
			}
			out.Differences = append(out.Differences, policy.Compare(before, after)...)
			if done, err := a.json(out); done {
				return err
			}
			a.out.Printf(
				"%s by %s, %s, on revision %d: %s",
				a.out.Paint(view.Bold, fmt.Sprintf("Proposal %d", n)),
				p.Author,
				local(p.Created),
				p.Base,
				p.Message,
			)
			if p.Agreed != "" {
				a.out.Printf("%s agreed, %s", p.Agreed, local(*p.AgreedAt))
			}
			state := proposalState(&p)
			a.out.Printf("%s\n", a.out.Paint(state.Style, state.Text))
			a.showComparison(
				comparison{
					Before:      fmt.Sprintf("revision %d", p.Base),
					After:       fmt.Sprintf("proposal %d", n),
					Differences: out.Differences,
				},
				false,
			)
			if p.State == api.ProposalOpen {
				a.out.Printf("\nOn which hosts: lantern proposal fetch %d FOLDER, then lantern policy preview FOLDER", n)
				switch {
				case p.Stale:
				case p.Lacks != "":
					a.out.Printf("Agree: lantern proposal agree %d", n)
				default:
					a.out.Printf("Publish: lantern proposal publish %d", n)
				}
			}
			return nil
		},
	}
}

func (a *app) proposalFetch() *cobra.Command {
	return &cobra.Command{
		Use: "fetch NUMBER FOLDER", Short: "Write the folder that is proposed", Args: cobra.ExactArgs(2),
		Example: "  lantern proposal fetch 1 ./proposal-1\n  lantern policy preview ./proposal-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			p, err := a.client().Proposal(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.writeFolder(p.Files, fmt.Sprintf("proposal %d", n), args[1])
		},
	}
}

func (a *app) proposalAgree() *cobra.Command {
	return &cobra.Command{
		Use: "agree NUMBER", Short: "Agree to what somebody else proposes", Args: cobra.ExactArgs(1),
		Example: "  lantern proposal agree 1\n  lantern proposal agree 2 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			p, err := a.client().AgreeToProposal(cmd.Context(), n)
			if err != nil {
				return err
			}
			p.Files = nil
			if done, err := a.json(p); done {
				return err
			}
			a.out.Printf("You agreed to proposal %d of %s. Next: lantern proposal publish %d", n, p.Author, n)
			return nil
		},
	}
}

func (a *app) proposalPublish() *cobra.Command {
	return &cobra.Command{
		Use: "publish NUMBER", Short: "Publish what was proposed, once it lacks nothing", Args: cobra.ExactArgs(1),
		Example: "  lantern proposal publish 1\n  lantern proposal publish 2 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			r, err := a.client().PublishProposal(cmd.Context(), n)
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			a.out.Printf("%s Next: lantern policy preview, then lantern rollout begin",
				a.out.Paint(view.Bold, fmt.Sprintf("Proposal %d is published as revision %d.", n, r.Number)))
			return nil
		},
	}
}

func (a *app) proposalWithdraw() *cobra.Command {
	return &cobra.Command{
		Use: "withdraw NUMBER", Short: "Withdraw a proposal", Args: cobra.ExactArgs(1),
		Example: "  lantern proposal withdraw 1\n  lantern proposal withdraw 3 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			if err := a.client().WithdrawProposal(cmd.Context(), n); err != nil {
				return err
			}
			return a.did("withdrawn", args[0], "Proposal %d is withdrawn.", n)
		},
	}
}
