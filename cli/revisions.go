package cli

import (
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

func (a *app) revision() *cobra.Command {
	cmd := &cobra.Command{
		Use: "revision", Short: "The revisions that were published: by whom, why, and on how many hosts", GroupID: "policy",
		Long:    "lantern policy publish makes one, policy fetch writes the folder of one, policy restore publishes one again.",
		Example: "  lantern revision list\n  lantern revision list --match saltmarsh --format csv",
	}
	lists(cmd, a.revisionList())
	return cmd
}

func (a *app) revisionList() *cobra.Command {
	var l listFlags
	var q string
	cmd := &cobra.Command{
		Use: "list", Short: "List the published revisions, the newest first", Args: cobra.NoArgs,
		Example: "  lantern revision list\n  lantern revision list --match saltmarsh --format csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Revisions(cmd.Context(), client.List{Query: q, Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(list); done {
				return err
			}
			if list.Total == 0 && q == "" {
				a.out.Printf("Nothing is published yet: lantern policy publish FOLDER")
				return nil
			}
			var rows [][]view.Cell
			for _, r := range list.Revisions {
				rows = append(rows, []view.Cell{
					view.T(fmt.Sprint(r.Number)), view.T(r.Created.Local().Format("2006-01-02 15:04")), view.T(r.Author),
					view.T(fmt.Sprint(r.Hosts)), view.T(r.Message),
				})
			}
			a.out.Table([]view.Column{
				{Name: "REVISION", Right: true}, {Name: "PUBLISHED"}, {Name: "BY"}, {Name: "HOSTS", Right: true},
				{Name: "MESSAGE", Gives: true},
			}, rows)
			l.more(a, len(list.Revisions), list.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().StringVar(&q, "match", "", "part of the message or of the author")
	return cmd
}

// revisionNumber reads the number of a revision.
func revisionNumber(s string) (int64, error) {
	var n int64
	if _, err := fmt.Sscanf(s, "%d", &n); err != nil || n < 1 || fmt.Sprint(n) != s {
		return 0, wrong("%q is not the number of a revision; `lantern revision list` lists them", s)
	}
	return n, nil
}

// published is the folder that was published as a revision.
func (a *app) published(ctx context.Context, number string) (n int64, p api.Publication, err error) {
	if n, err = revisionNumber(number); err == nil {
		p, err = a.client().RevisionFiles(ctx, n)
	}
	return n, p, err
}

func (a *app) policyFetch() *cobra.Command {
	return &cobra.Command{
		Use: "fetch REVISION FOLDER", Short: "Write the folder that was published as a revision", Args: cobra.ExactArgs(2),
		Long: "Write the policy folder that was published as a revision, to look at, to compare, or to go on from.\nThe folder must " +
			"not be there, or be empty.",
		Example: "  lantern policy fetch 1 ./policy-1\n  lantern policy compare ./policy-1 ./policy",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, p, err := a.published(cmd.Context(), args[0])
			if err != nil {
				return err // nothing was made
			}
			return a.writeFolder(p.Files, fmt.Sprintf("revision %d", n), args[1])
		},
	}
}

// writeFolder writes the files of something into a folder that is not there, or is empty.
func (a *app) writeFolder(files map[string][]byte, of, dir string) error {
	for name := range files {
		if !insideFolder(name) {
			return no("%s holds a file %q, which would stand outside the folder; nothing was written", of, name)
		}
	}
	if err := emptyFolder(dir); err != nil {
		return err
	}
	for name, text := range files {
		if err := writeFile(filepath.Join(dir, filepath.FromSlash(name)), text); err != nil {
			return err
		}
	}
	if a.format != "table" {
		return a.wrote(slices.Sorted(maps.Keys(files))...)
	}
	a.out.Printf("%s of %s in %s", view.Count(len(files), "file", "files"), of, dir)
	return nil
}

// insideFolder reports whether a name stays inside the folder that it is put in.
func insideFolder(name string) bool {
	return name != "" && !path.IsAbs(name) && path.Clean(name) == name && name != ".." && !strings.HasPrefix(name, "../") &&
		filepath.IsLocal(filepath.FromSlash(name))
}

func (a *app) policyRestore() *cobra.Command {
	var message string
	var believe []string
	var alone bool
	cmd := &cobra.Command{
		Use: "restore REVISION", Short: "Publish an earlier revision again, as the newest", Args: cobra.ExactArgs(1),
		Long: "Go back: publish the folder of an earlier revision again, under the next number. No host changes\nuntil a rollout carries " +
			"it there. A host never goes back to a number that it has passed, so that\n" +
			"nobody who keeps an old delivery can make it go back.",
		Example: "  lantern policy restore 1\n  lantern policy restore 2 -m 'Saltmarsh 9 after all' --format json\n" +
			"  lantern policy preview && lantern rollout begin",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, p, err := a.published(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if message == "" {
				message = fmt.Sprintf("back to revision %d", n)
			}
			r, err := a.client().Publish(cmd.Context(), api.Publication{Files: p.Files, Message: message, Believe: believe, Alone: alone})
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			if !r.Fresh {
				a.out.Printf("Revision %d holds this very folder already; nothing new was published.", r.Number)
				return nil
			}
			a.out.Printf(
				"%s It says what revision %d said. Next: lantern policy preview, then lantern rollout begin",
				a.out.Paint(view.Bold, fmt.Sprintf("Revision %d published.", r.Number)),
				n,
			)
			return nil
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "why, for those who come later")
	believeFlag(cmd, &believe)
	aloneFlag(cmd, &alone)
	return cmd
}
