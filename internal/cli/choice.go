package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"youngtrellis/internal/core/near"
)

// choice is the value of a flag that can be one of some words.
type choice struct {
	into *string
	can  []string
}

// String implements pflag.Value.
func (c *choice) String() string { return *c.into }

// Type implements pflag.Value.
func (c *choice) Type() string { return "word" }

// Set implements pflag.Value.
func (c *choice) Set(s string) error {
	if !slices.Contains(c.can, s) {
		return fmt.Errorf("it can be %s.%s", listed(c.can), near.Hint(s, c.can))
	}
	*c.into = s
	return nil
}

// listed puts words into a sentence.
func listed(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// oneOf is a flag that can be one of some words, which the shell completes.
func oneOf(c *cobra.Command, into *string, name, help string, can ...string) {
	c.Flags().Var(&choice{into, can}, name, help+": "+listed(can))
	_ = c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(can, cobra.ShellCompDirectiveNoFileComp))
}
