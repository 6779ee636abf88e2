package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"
)

// A progress tells on a terminal how far long work is, and nothing in a pipe.
type progress struct {
	to   io.Writer // nil for nowhere
	verb string
	told bool
}

func progressOn(c *cobra.Command, verb string) *progress {
	if t, ok := c.ErrOrStderr().(*terminal); ok {
		return &progress{to: t.file, verb: verb} // as it is: it goes back to the beginning of its line
	}
	return &progress{}
}

// at says that so many of all are done; 0 for all if that is not known.
func (p *progress) at(n, all int) {
	if p.to == nil {
		return
	}
	p.told = true
	if all > 0 {
		fmt.Fprintf(p.to, "\r%s %d of %d", p.verb, n, all)
		return
	}
	fmt.Fprintf(p.to, "\r%s %d", p.verb, n)
}

// done ends the line.
func (p *progress) done() {
	if p.told {
		fmt.Fprintln(p.to)
		p.told = false
	}
}
