package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/names"
)

// The grammar: lantern NOUN VERB, the noun in the singular. A noun alone lists what there is of
// it. Five words stand alone, because they ask or do something that is no noun's: drift, heal,
// explain, whence, read. So do the programs: serve, shelf serve, demo, openapi, schema, man.

// lists makes a noun alone do what its list does, with the same options.
func lists(noun, list *cobra.Command) {
	noun.Flags().AddFlagSet(list.Flags())
	noun.RunE = list.RunE
	for key, value := range list.Annotations {
		noun.Annotations = mark(noun.Annotations, key, value)
	}
	noun.AddCommand(list)
}

// old is a command under the name that it had before. It goes on for one release.
func (a *app) old(cmd *cobra.Command, name, now string) *cobra.Command {
	_, rest, _ := strings.Cut(cmd.Use, " ")
	cmd.Use = strings.TrimSpace(name + " " + rest)
	cmd.Hidden, cmd.GroupID = true, ""
	cmd.Annotations = mark(cmd.Annotations, "old", now)
	cmd.PreRun = func(*cobra.Command, []string) { a.renamed("lantern "+name, now) }
	return cmd
}

// renamed warns of a form that goes.
func (a *app) renamed(old, now string) {
	a.errOut.Printf("%s`%s` is `%s` now; the old form goes with the next release",
		a.errOut.Paint(view.Yellow, "lantern: "), old, now)
}

func mark(to map[string]string, key, value string) map[string]string {
	if to == nil {
		to = map[string]string{}
	}
	to[key] = value
	return to
}

// guard makes wrong arguments say what is wanted, and unknown subcommands an error.
func guard(c *cobra.Command) {
	args := c.Args
	c.Args = func(cmd *cobra.Command, given []string) error {
		switch {
		case cmd.HasSubCommands() && len(given) > 0 && cmd.Annotations["words"] == "":
			return wrong("%s has no command %q%s", cmd.CommandPath(), given[0], didYouMean(cmd, given[0]))
		case args == nil:
			return nil
		}
		if err := args(cmd, given); err != nil {
			return wrong("%s: %s; it is used as: %s", cmd.CommandPath(), lacks(cmd.Use, given), cmd.UseLine())
		}
		return nil
	}
	if c.HasSubCommands() && c.RunE == nil {
		c.RunE = func(cmd *cobra.Command, _ []string) error {
			if err := cmd.Help(); err != nil {
				return err
			}
			return wrong("%s wants a verb: %s", cmd.CommandPath(), strings.Join(verbs(cmd), ", "))
		}
	}
	for _, sub := range c.Commands() {
		guard(sub)
	}
}

// lacks says which word of a command line is missing, or is one too many.
func lacks(use string, given []string) string {
	needed, optional := demands(use)
	switch {
	case len(given) < len(needed) && slices.Contains(needed, "|"):
		return strings.Join(needed, " ") + " is missing"
	case len(given) < len(needed):
		return needed[len(given)] + " is missing"
	}
	return fmt.Sprintf("%q is one word too many", given[min(len(needed)+optional, len(given)-1)])
}

// demands are the words that a line of usage demands, and how many more it takes: what stands in brackets
// may be left out, and what follows a flag is the flag's.
func demands(use string) (needed []string, optional int) {
	depth, flag := 0, false
	for _, word := range strings.Fields(use)[1:] {
		switch {
		case depth > 0:
		case strings.HasPrefix(word, "["):
			optional++
		case strings.HasPrefix(word, "-"):
			flag = true
		case flag:
			flag = false
		default:
			needed = append(needed, strings.TrimSuffix(word, "..."))
		}
		depth += strings.Count(word, "[") - strings.Count(word, "]")
	}
	return needed, optional
}

// verbs are the names of a command's own commands.
func verbs(cmd *cobra.Command) (out []string) {
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			out = append(out, c.Name())
		}
	}
	return out
}

// didYouMean names the command that was probably meant: one of the same noun, or one of
// another that has the word as its verb.
func didYouMean(cmd *cobra.Command, given string) string {
	if near := names.Nearest(given, verbs(cmd)); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	var elsewhere []string
	for _, noun := range cmd.Root().Commands() {
		if slices.Contains(verbs(noun), strings.TrimSuffix(given, "s")) && noun.IsAvailableCommand() {
			elsewhere = append(elsewhere, fmt.Sprintf("`%s %s`", noun.CommandPath(), strings.TrimSuffix(given, "s")))
		}
	}
	if len(elsewhere) > 0 && !cmd.HasParent() {
		return "; there is " + strings.Join(elsewhere, ", ")
	}
	return fmt.Sprintf("; `%s --help` lists them", cmd.CommandPath())
}
