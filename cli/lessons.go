package cli

import (
	"cmp"
	_ "embed"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"
)

// lessonsText is what the commands of examples answered on the demo's fleet.
//
//go:embed lessons/lessons.txt
var lessonsText string

// commandsText says of each command when one needs it, what its status 1 means, and what comes
// next.
//
//go:embed lessons/commands.txt
var commandsText string

// Lesson is what a command answered.
type Lesson struct {
	Status int // exit status
	Answer string
}

// Record writes a lesson, as Lessons reads it.
func Record(w io.Writer, command string, status int, answer string) {
	fmt.Fprintf(w, "\n$ %d %s\n%s\n", status, command, answer)
}

// Lessons reads what commands answered, by command; of an empty text, those that are shown.
func Lessons(text string) map[string]Lesson {
	if text == "" {
		text = lessonsText
	}
	out := map[string]Lesson{}
	for _, part := range strings.Split(text, "\n\n$ ")[1:] {
		head, answer, _ := strings.Cut(part, "\n")
		number, command, _ := strings.Cut(head, " ")
		l := Lesson{Answer: strings.TrimRight(answer, "\n")}
		fmt.Sscan(number, &l.Status)
		out[command] = l
	}
	return out
}

var shownLessons = sync.OnceValue(func() map[string]Lesson { return Lessons("") })

// taught is the examples of a command with what they answered.
func taught(c *cobra.Command) string {
	var out strings.Builder
	for line := range strings.Lines(c.Example) {
		line = strings.TrimRight(line, "\n")
		fmt.Fprintln(&out, line)
		command, _, _ := strings.Cut(strings.TrimSpace(line), "   #")
		l, known := shownLessons()[command]
		if !known {
			continue
		}
		for answer := range strings.Lines(l.Answer) {
			fmt.Fprintln(&out, strings.TrimRight("    "+answer, "\n "))
		}
		if l.Status != 0 {
			fmt.Fprintf(&out, "    (ends with %d)\n", l.Status)
		}
		fmt.Fprintln(&out)
	}
	return strings.TrimRight(out.String(), "\n")
}

// use is when one needs a command, what it says with status 1, and what comes next.
type use struct{ when, one, next string }

var uses = sync.OnceValue(func() map[string]use {
	out := map[string]use{}
	for line := range strings.Lines(commandsText) {
		if part := strings.Split(line, "|"); line[0] != '#' && len(part) == 4 {
			out[strings.TrimSpace(part[0])] = use{strings.TrimSpace(part[1]), strings.TrimSpace(part[2]), strings.TrimSpace(part[3])}
		}
	}
	return out
})

// offline are the commands that ask no service.
var offline = []string{
	"read", "schema", "man", "openapi", "demo", "serve", "shelf serve", "policy new", "policy format", "policy codes",
}

// teach makes the page of a command say when one needs it, what its examples answer, with which
// status it ends, and what comes next. A noun alone does what its list does.
func teach(c *cobra.Command) {
	name := strings.TrimPrefix(c.CommandPath(), "lantern ")
	if u, known := uses()[name]; known {
		c.Long = u.when + "\n\n" + cmp.Or(c.Long, strings.TrimSuffix(c.Short, ".")+".")
		c.Annotations = mark(c.Annotations, "ends", u.ends(name))
		c.Annotations = mark(c.Annotations, "next", u.next)
	}
	c.Example = taught(c)
}

// teachAll is teach for a command and all below it, for papers; they have no room of their own
// for how a command ends and what comes next, so that stands in what is said of it.
func teachAll(c *cobra.Command) {
	if c.Hidden {
		return
	}
	teach(c)
	if ends := c.Annotations["ends"]; ends != "" {
		c.Long += "\n\nExit status: " + ends + "."
	}
	if next := c.Annotations["next"]; next != "" {
		c.Long += "\n\nNext: " + next + "."
	}
	for _, sub := range c.Commands() {
		teachAll(sub)
	}
}

// ends tells the exit statuses of a command.
func (u use) ends(name string) string {
	out := "0 done; 1 " + cmp.Or(u.one, "there is nothing of that name, or the output cannot be written") + "; 2 wrong usage"
	if name == "read" {
		return "0 no problem is fatal; 1 the root cannot be read; 2 wrong usage; 3 the package manager would refuse it"
	}
	if !slices.Contains(offline, name) {
		out += "; 4 the service does not answer, or will not do it"
	}
	return out
}

// pages is how help is laid out: what cobra has, with what a command ends with and what comes next.
func pages(root *cobra.Command) {
	const ends = "{{if .Annotations.ends}}\n\nExit status:\n  {{.Annotations.ends}}{{end}}" +
		"{{if .Annotations.next}}\n\nNext:\n  {{.Annotations.next}}{{end}}"
	const flags = "{{if .HasAvailableLocalFlags}}"
	root.SetUsageTemplate(strings.Replace(root.UsageTemplate(), flags, ends+flags, 1))
	help := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		teach(c)
		help(c, args)
	})
}
