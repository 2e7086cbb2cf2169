package cli

import (
	_ "embed" // the grammar
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"
)

// statuses are the exit statuses and what they mean, for help and papers.
var statuses = []struct {
	number int
	means  string
}{
	{ExitOK, "done"},
	{ExitNo, "the answer is no: a policy has errors, an expectation does not hold, hosts failed, there is nothing of that name, " +
		"something was only shown, the output cannot be written"},
	{ExitUsage, "wrong usage: an unknown option, a word that an option does not take, an argument too many or too few"},
	{ExitRefused, "a root that the package manager would refuse (lantern read)"},
	{ExitService, "the service does not answer, or will not do it"},
	{ExitInterrupted, "interrupted; what the service was asked to do goes on there"},
}

//go:embed grammar.md
var grammar string

const renamedTable = `
## Old forms

They go on for this release, with a word of warning.

| before | now |
| --- | --- |
`

// Reference writes docs/commands.md.
func Reference(w io.Writer) {
	root := (&app{}).root()
	teachAll(root)
	fmt.Fprint(w, grammar)
	for _, s := range statuses {
		fmt.Fprintf(w, "| %d | %s |\n", s.number, s.means)
	}
	fmt.Fprint(w, renamedTable)
	for _, c := range root.Commands() {
		if now := c.Annotations["old"]; now != "" {
			fmt.Fprintf(w, "| `lantern %s` | `%s` |\n", c.Name(), now)
		}
	}
	fmt.Fprint(w, "| `lantern freeze [GROUP] --until` | `lantern freeze add [GROUP] --until` |\n")
	for _, g := range root.Groups() {
		fmt.Fprintf(w, "\n## %s\n", strings.TrimSuffix(g.Title, ":"))
		for _, c := range root.Commands() {
			if c.GroupID == g.ID {
				describe(w, c)
			}
		}
	}
}

// describe writes a command and those below it.
func describe(w io.Writer, c *cobra.Command) {
	if c.Hidden {
		return
	}
	fmt.Fprintf(w, "\n### %s\n\n%s.\n", c.CommandPath(), strings.TrimSuffix(c.Short, "."))
	if c.Long != "" {
		fmt.Fprintf(w, "\n%s\n", c.Long)
	}
	fmt.Fprintf(w, "\n```\n%s\n\n%s\n```\n", c.UseLine(), c.Example)
	var flags []string
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden && f.Name != "help" {
			flags = append(flags, fmt.Sprintf("- `--%s`: %s", f.Name, f.Usage))
		}
	})
	if len(flags) > 0 && (!c.HasSubCommands() || c.Annotations["list"] == "") {
		slices.Sort(flags)
		fmt.Fprintf(w, "\n%s\n", strings.Join(flags, "\n"))
	}
	for _, sub := range c.Commands() {
		describe(w, sub)
	}
}

func (a *app) man() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the man pages of all commands into a folder", GroupID: "run", Args: cobra.ExactArgs(1),
		Long:    "Write a man page for each command, in section 1, for packages and for man -l.",
		Example: "  lantern man ./man\n  lantern man ./man-pages --format json\n  man -l ./man/lantern-host-list.1",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := emptyFolder(args[0]); err != nil {
				return err
			}
			if err := makeFolder(args[0]); err != nil {
				return err
			}
			cmd.Root().DisableAutoGenTag = true
			teachAll(cmd.Root())
			header := &doc.GenManHeader{Section: "1", Source: "Patient Lantern " + Version, Manual: "Patient Lantern"}
			if err := doc.GenManTree(cmd.Root(), header, args[0]); err != nil {
				return no("%v", err)
			}
			return a.did("written", args[0], "The man pages stand in %s.", args[0])
		},
	}
}
