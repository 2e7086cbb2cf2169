package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/core/names"
)

// chosen is a flag that takes words of a list, one or several with commas between.
type chosen struct {
	to      *[]string
	allowed []string
	many    bool
}

func (c *chosen) Set(text string) error {
	words := []string{text}
	if c.many {
		words = strings.Split(text, ",")
	}
	for _, w := range words {
		if slices.Contains(c.allowed, w) {
			continue
		}
		near := ""
		if n := names.Nearest(w, c.allowed); n != "" {
			near = fmt.Sprintf("; did you mean %s?", n)
		}
		return fmt.Errorf("it must be one of %s%s", strings.Join(c.allowed, ", "), near)
	}
	if c.many {
		*c.to = append(*c.to, words...)
	} else {
		*c.to = words
	}
	return nil
}

func (c *chosen) String() string {
	if c.to == nil {
		return ""
	}
	return strings.Join(*c.to, ",")
}

func (c *chosen) Type() string { return "word" }

// choose adds a flag that takes words of a list. A wrong one is wrong usage and names the
// flag.
func choose(cmd *cobra.Command, to *[]string, name string, many bool, usage string, allowed ...string) {
	cmd.Flags().Var(&chosen{to, allowed, many}, name, usage)
	must(cmd.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(allowed, cobra.ShellCompDirectiveNoFileComp)))
}

// one is the word of a flag that takes one; empty where none was given.
func one(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// turned are orders and, behind each, the same turned round.
func turned(orders ...string) (out []string) {
	for _, o := range orders {
		out = append(out, o, "-"+o)
	}
	return out
}
