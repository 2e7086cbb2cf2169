package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

func (a *app) webhook() *cobra.Command {
	cmd := &cobra.Command{
		Use: "webhook", Short: "Tell an address of what happens", GroupID: "run",
		Long: "Events are CloudEvents 1.0 in JSON, some in one call, signed by HTTP Message Signatures (RFC 9421, hmac-sha256). A call that\n" +
			"fails is made again with growing pauses, up to an hour; nothing is left out meanwhile.",
		Example: "  lantern webhook add https://alerts.brinewick.test/lantern --about host,rollout\n" +
			"  lantern webhook try 1\n  lantern webhook list",
	}
	lists(cmd, a.webhookList())
	cmd.AddCommand(a.webhookAdd(), a.webhookTry(), a.webhookRemove())
	return cmd
}

func (a *app) webhookAdd() *cobra.Command {
	var o api.WebhookOrder
	cmd := &cobra.Command{
		Use: "add URL", Short: "Have an address told of what happens; its secret is shown once", Args: cobra.ExactArgs(1),
		Example: "  lantern webhook add https://alerts.brinewick.test/lantern --about host,rollout\n" +
			"  lantern webhook add https://desk.brinewick.test/lantern --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			o.URL = args[0]
			w, err := a.client().AddWebhook(cmd.Context(), o)
			if err != nil {
				return err
			}
			if done, err := a.json(w); done {
				return err
			}
			a.out.Printf("Webhook %d: %s is told of %s.", w.ID, w.URL, strings.Join(w.About, ", "))
			a.out.Printf("secret, shown this once (base64): %s", w.Secret)
			return nil
		},
	}
	choose(
		cmd,
		&o.About,
		"about",
		true,
		"kinds of what happens; all when left out",
		"host",
		"rollout",
		"revision",
		"freeze",
		"waiver",
		"seats",
	)
	return cmd
}

func (a *app) webhookList() *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List who is told, and how that goes", Args: cobra.NoArgs,
		Example: "  lantern webhook list\n" +
			"  lantern webhook list --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Webhooks(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(list); done {
				return err
			}
			if len(list.Webhooks) == 0 {
				a.out.Printf("Nobody is told: lantern webhook add URL")
				return nil
			}
			var rows [][]view.Cell
			for _, w := range list.Webhooks {
				how := view.Cell{Text: "told of all", Style: view.Green}
				if w.Failed > 0 {
					how = view.Cell{
						Text:  fmt.Sprintf("%s failed: %s; again at %s", view.Count(w.Failed, "call", "calls"), w.Error, local(*w.Next)),
						Style: view.Red,
					}
				}
				rows = append(rows, []view.Cell{
					view.T(fmt.Sprint(w.ID)), view.T(w.URL), view.T(strings.Join(w.About, ",")), view.T(w.Author), how,
				})
			}
			a.out.Table(
				[]view.Column{{Name: "WEBHOOK", Right: true}, {Name: "URL"}, {Name: "ABOUT"}, {Name: "BY"}, {Name: "HOW IT GOES"}},
				rows,
			)
			return nil
		},
	}
	listing(cmd)
	return cmd
}

func webhookNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, wrong("%q is not the number of a webhook; `lantern webhook list` shows them", text)
	}
	return id, nil
}

func (a *app) webhookTry() *cobra.Command {
	return &cobra.Command{
		Use: "try NUMBER", Short: "Call a webhook once with a test event", Args: cobra.ExactArgs(1),
		Example: "  lantern webhook try 1\n  lantern webhook try 1 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := webhookNumber(args[0])
			if err != nil {
				return err
			}
			t, err := a.client().TryWebhook(cmd.Context(), id)
			if err != nil {
				return err
			}
			if done, err := a.json(t); done {
				if err == nil && t.Message != "" {
					err = &exit{ExitNo, ""}
				}
				return err
			}
			if t.Message != "" {
				return no("webhook %d does not take it: %s", id, t.Message)
			}
			a.out.Printf("Webhook %d answers %d, after %d ms.", id, t.Status, t.Took)
			return nil
		},
	}
}

func (a *app) webhookRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NUMBER", Short: "Tell an address no more", Args: cobra.ExactArgs(1),
		Example: "  lantern webhook remove 1\n" +
			"  lantern webhook remove 2 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := webhookNumber(args[0])
			if err != nil {
				return err
			}
			if err := a.client().RemoveWebhook(cmd.Context(), id); err != nil {
				return err
			}
			return a.did("removed", args[0], "Webhook %d is told no more.", id)
		},
	}
}
