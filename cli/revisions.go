package cli

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

// revisionNumber reads the number of a revision.
func revisionNumber(s string) (int64, error) {
	var n int64
	if _, err := fmt.Sscanf(s, "%d", &n); err != nil || n < 1 || fmt.Sprint(n) != s {
		return 0, wrong("%q is not the number of a revision; `lantern revisions` lists them", s)
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
		Example: "  lantern policy fetch 3 ./policy-3\n  lantern policy compare ./policy-3 ./policy",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, p, err := a.published(cmd.Context(), args[0])
			if err != nil {
				return err // nothing was made
			}
			for name := range p.Files {
				if !insideFolder(name) {
					return no("revision %d holds a file %q, which would stand outside the folder; nothing was written", n, name)
				}
			}
			if err := emptyFolder(args[1]); err != nil {
				return err
			}
			for name, text := range p.Files {
				to := filepath.Join(args[1], filepath.FromSlash(name))
				if err := writeFile(to, text); err != nil {
					return err
				}
			}
			a.out.Printf("%s of revision %d in %s", view.Count(len(p.Files), "file", "files"), n, args[1])
			return nil
		},
	}
}

// insideFolder reports whether a name stays inside the folder that it is put in.
func insideFolder(name string) bool {
	return name != "" && !path.IsAbs(name) && path.Clean(name) == name && name != ".." && !strings.HasPrefix(name, "../") &&
		filepath.IsLocal(filepath.FromSlash(name))
}

func (a *app) policyRestore() *cobra.Command {
	var message string
	var believe []string
	cmd := &cobra.Command{
		Use: "restore REVISION", Short: "Publish an earlier revision again, as the newest", Args: cobra.ExactArgs(1),
		Long: "Go back: publish the folder of an earlier revision again, under the next number. No host changes\nuntil a rollout carries " +
			"it there. A host never goes back to a number that it has passed, so that\n" +
			"nobody who keeps an old delivery can make it go back.",
		Example: "  lantern policy restore 3\n  lantern preview && lantern rollout begin",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, p, err := a.published(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if message == "" {
				message = fmt.Sprintf("back to revision %d", n)
			}
			r, err := a.client().Publish(cmd.Context(), api.Publication{Files: p.Files, Message: message, Believe: believe})
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
				"%s It says what revision %d said. Next: lantern preview, then lantern rollout begin",
				a.out.Paint(view.Bold, fmt.Sprintf("Revision %d published.", r.Number)),
				n,
			)
			return nil
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "why, for those who come later")
	believeFlag(cmd, &believe)
	return cmd
}
