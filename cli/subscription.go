package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

func day(t time.Time) string { return t.UTC().Format(time.DateOnly) }

func (a *app) account() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "account",
		Short:   "The organisation's accounts at vendors' subscription desks",
		GroupID: "contracts",
		Example: "  lantern account list\n  lantern account list --format csv",
	}
	lists(cmd, a.accountList())
	cmd.AddCommand(a.accountAdd(), a.accountRemove())
	return cmd
}

func (a *app) accountAdd() *cobra.Command {
	var o api.AccountOrder
	var file string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Give the service an account, or a new login for one", Args: cobra.ExactArgs(1),
		Long: "Give the service the organisation's account at a vendor's desk. The password is asked for,\nor read from a file or from " +
			"standard input; it is kept encrypted and never shown again.\nNo host ever sees it. The desk is asked at once, so a wrong login " +
			"is said now.",
		Example: "  lantern account add gannet --desk https://desk.gannet.example --login brinewick\n  lantern account add gannet --desk " +
			"https://desk.gannet.example --login brinewick --password-file - < secret\n" +
			"  lantern account add gannet --desk https://desk.gannet.example --login brinewick --password-file secret --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Name = args[0]
			if o.Desk == "" || o.Login == "" {
				return wrong("--desk and --login are needed")
			}
			password, err := a.readPassword(file)
			if err != nil {
				return err
			}
			o.Password = password
			acc, err := a.client().AddAccount(cmd.Context(), o)
			if err != nil {
				return err
			}
			if done, err := a.json(acc); done {
				return err
			}
			a.out.Printf(
				"The account %s is kept; its desk tells of %s. Next: lantern contract list",
				acc.Name,
				view.Count(acc.Contracts, "contract", "contracts"),
			)
			return nil
		},
	}
	cmd.Flags().StringVar(&o.Desk, "desk", "", "address of the vendor's desk")
	cmd.Flags().StringVar(&o.Login, "login", "", "the organisation's login there")
	cmd.Flags().StringVar(&o.Title, "title", "", "for people")
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	return cmd
}

// readPassword reads a password without showing it.
func (a *app) readPassword(file string) (string, error) {
	var text string
	switch {
	case file == "-" || file == "" && !term.IsTerminal(int(os.Stdin.Fd())):
		line, err := bufio.NewReader(io.LimitReader(os.Stdin, 4096)).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", wrong("the password cannot be read from standard input: %v", err)
		}
		text = line
	case file != "":
		b, err := os.ReadFile(file)
		if err != nil {
			return "", wrong("--password-file: %v", err)
		}
		text = string(b)
	default:
		fmt.Fprint(a.errOut, "Password: ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.errOut)
		if err != nil {
			return "", wrong("the password cannot be read: %v", err)
		}
		text = string(b)
	}
	text = strings.TrimRight(text, "\r\n")
	if text == "" {
		return "", wrong("the password is empty")
	}
	return text, nil
}

func (a *app) accountList() *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List accounts, and whether their desks answer", Args: cobra.NoArgs,
		Example: "  lantern account list\n" +
			"  lantern account list --format csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Accounts(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(list); done {
				return err
			}
			if len(list.Accounts) == 0 {
				a.out.Printf("The service has no account at a vendor's desk yet: lantern account add NAME --desk URL --login NAME")
				return nil
			}
			var rows [][]view.Cell
			for _, x := range list.Accounts {
				state := view.Cell{Text: "= answers", Style: view.Green}
				if x.Trouble != "" {
					state = view.Cell{Text: "✗ " + x.Trouble, Style: view.Red}
					if x.Since != nil {
						state.Text = fmt.Sprintf("✗ away for %s: %s", strings.TrimSuffix(view.Ago(time.Since(*x.Since)), " ago"), x.Trouble)
					}
				}
				rows = append(
					rows,
					[]view.Cell{view.T(x.Name), view.T(fmt.Sprint(x.Contracts)), view.T(fmt.Sprint(x.Seats)), view.T(x.Desk), state},
				)
			}
			a.out.Table(
				[]view.Column{
					{Name: "ACCOUNT"},
					{Name: "CONTRACTS", Right: true},
					{Name: "SEATS", Right: true},
					{Name: "DESK", Gives: true},
					{Name: "STATE", Gives: true},
				},
				rows,
			)
			return nil
		},
	}
	listing(cmd)
	return cmd
}

func (a *app) accountRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget an account that has no seats", Args: cobra.ExactArgs(1),
		Example: "  lantern account remove gannet\n  lantern account remove gannet --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RemoveAccount(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did("removed", args[0], "The account %s is forgotten.", args[0])
		},
	}
}

// rotated is what secrets rotate says as JSON.
type rotated struct {
	Secrets int `json:"secrets" doc:"That were encrypted anew"`
}

func (a *app) secrets() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "secrets",
		Short:   "The key with which the service encrypts its secrets",
		GroupID: "run",
		Example: "  lantern secrets rotate\n  lantern secrets rotate --format json",
	}
	cmd.AddCommand(&cobra.Command{
		Use: "rotate", Short: "Encrypt every secret with a new key, and forget the old one", Args: cobra.NoArgs,
		Long: "Encrypt every login and all access that the service keeps with a new key. Where the key\ncomes from " +
			"LANTERN_SECRETS_KEY, put the new one in front of the old one there and start the\nservice again first. Copies of the database " +
			"from before still need the old key.",
		Example: "  lantern secrets rotate\n  lantern secrets rotate --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			n, err := a.client().RotateSecrets(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(rotated{n}); done {
				return err
			}
			a.out.Printf("%s encrypted with a new key; the old one is forgotten.", view.Count(n, "secret", "secrets"))
			return nil
		},
	})
	return cmd
}
