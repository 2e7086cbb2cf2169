package cli

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/shelf"
)

func (a *app) shelf() *cobra.Command {
	cmd := &cobra.Command{
		Use: "shelf", Short: "Folders that hosts are served, where they have no other way out", GroupID: "run",
		Long: "A shelf is a folder of metadata and packages that hosts are served over HTTP, read-only and without a sign-in: for\n" +
			"hosts that reach nothing else, and for media. What stands in it is believed by its signatures, as anywhere. The\n" +
			"service serves folders of its own machine below one folder (lantern serve --shelves); any other machine serves\n" +
			"one by lantern shelf serve.",
		Example: "  lantern shelf add skerry-12 media/skerry-12\n  lantern shelf list\n  lantern shelf serve /media/skerry-12 --listen :7880",
	}
	lists(cmd, a.shelfList())
	cmd.AddCommand(a.shelfAdd(), a.shelfRemove(), a.shelfServe())
	return cmd
}

func (a *app) shelfAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add NAME FOLDER", Short: "Have the service serve a folder of its machine to hosts", Args: cobra.ExactArgs(2),
		Long: "FOLDER stands below the folder of all shelves on the service's machine. It need not be there now: media come\n" +
			"and go. One of that name is served from the other folder from then on.",
		Example: "  lantern shelf add skerry-12 media/skerry-12\n  lantern shelf add skerry-12 media/skerry-12 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			x, err := c.AddShelf(cmd.Context(), api.ShelfOrder{Name: args[0], Folder: args[1]})
			if err != nil {
				return err
			}
			if done, err := a.json(x); done {
				return err
			}
			a.out.Printf("%s is served at %s%s", x.Folder, c.Service, x.Path)
			if x.State == api.ShelfAway {
				a.out.Printf("%s %s: hosts are answered that no such file is there", a.out.Paint(view.Yellow, "! away:"), x.Why)
			}
			a.out.Printf("In a policy: url: \"%s%s…\", or media: { host: …, path: …, url: \"%s%s\" }", c.Service, x.Path,
				c.Service, strings.TrimSuffix(x.Path, "/"))
			return nil
		},
	}
}

func (a *app) shelfList() *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List the folders that the service serves to hosts, and whether something stands in each", Args: cobra.NoArgs,
		Example: "  lantern shelf list\n  lantern shelf list --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Shelves(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(list); done {
				return err
			}
			if len(list.Shelves) == 0 {
				a.out.Printf("The service serves no folder to hosts: lantern shelf add NAME FOLDER")
				return nil
			}
			var rows [][]view.Cell
			for _, x := range list.Shelves {
				state := view.Cell{Text: "= there", Style: view.Green}
				if x.State == api.ShelfAway {
					state = view.Cell{Text: "! away: " + x.Why, Style: view.Yellow}
				}
				rows = append(rows, []view.Cell{view.T(x.Name), view.T(x.Folder), view.T(x.Path), state, view.T(x.Author), view.T(local(x.Created))})
			}
			a.out.Table([]view.Column{{Name: "SHELF"}, {Name: "FOLDER"}, {Name: "SERVED AT"}, {Name: "STATE"}, {Name: "BY"}, {Name: "SINCE"}}, rows)
			return nil
		},
	}
	listing(cmd)
	return cmd
}

func (a *app) shelfRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Have a folder served no more; what stands in it stays", Args: cobra.ExactArgs(1),
		Example: "  lantern shelf remove skerry-12\n  lantern shelf remove skerry-12 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RemoveShelf(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did("removed", args[0], "The shelf %s is served no more; its folder stays. Hosts that get packages there cannot refresh now.",
				args[0])
		},
	}
}

// shelfServe serves a folder of this machine, without a service.
func (a *app) shelfServe() *cobra.Command {
	var listen string
	cmd := &cobra.Command{
		Use: "serve FOLDER", Short: "Serve a folder of this machine to hosts, until Ctrl-C", Args: cobra.ExactArgs(1),
		Long: "Serve a folder of metadata and packages read-only over HTTP, with ranges. No service is needed. Nothing outside of\n" +
			"the folder is served, and nothing whose name begins with a dot. While the folder is away, hosts are answered\n" +
			"that no such file is there.",
		Example: "  lantern shelf serve /media/skerry-12 --listen :7880\n  lantern shelf serve ./media",
		RunE: func(cmd *cobra.Command, args []string) error {
			if info, err := os.Stat(args[0]); err == nil && !info.IsDir() {
				return wrong("%s is no folder", args[0])
			}
			folder, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			a.patient.Store(true)
			ctx, stop := untilSignal(cmd.Context())
			defer stop()
			ln, err := net.Listen("tcp", listen)
			if err != nil {
				return no("cannot listen on %s: %v; choose another address with --listen", listen, err)
			}
			a.out.Printf("Serving %s at http://%s/", folder, ln.Addr())
			if why := shelf.Stands(shelf.Folder(folder)); why != "" {
				a.out.Printf("%s %s: hosts are answered that no such file is there", a.out.Paint(view.Yellow, "! away:"), why)
			}
			return serveFolder(ctx, ln, folder)
		},
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:7880", "address to listen on")
	return cmd
}

func serveFolder(ctx context.Context, ln net.Listener, folder string) error {
	srv := &http.Server{
		Handler: shelf.Handler(shelf.Folder(folder)), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		IdleTimeout: 3 * time.Minute, MaxHeaderBytes: 32 << 10,
	}
	if err := datafolder.Until(ctx, srv, ln, nil); err != nil {
		return fmt.Errorf("serving %s: %w", folder, err)
	}
	return nil
}
