// Package cli is the commands. They are thin: what they know about the policy they ask
// core, and to the running service they speak through the client.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"runtime/debug"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ostiarius/client"
	"ostiarius/service"
)

// Version is the version of this build; the makefile sets it.
var Version = "development"

// Exit codes of every command.
const (
	exitOK      = 0
	exitFailure = 1 // what was asked for could not be done, or a check found errors
	exitUsage   = 2 // the command line makes no sense
)

// errUsage marks errors of the command line.
type errUsage struct{ error }

// errSilent ends a command with exit code 1 after it has said everything itself.
var errSilent = errors.New("")

// Main runs a command line and returns the exit code. Errors are written to stderr in one
// line that says what is wrong and what to do.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	root := newRoot()
	root.SetArgs(args)
	root.SetIn(in)
	out, errOut = forPeople(out), forPeople(errOut)
	root.SetOut(out)
	root.SetErr(errOut)
	command, err := root.ExecuteC()
	switch {
	case err == nil:
		return exitOK
	case errors.Is(err, errSilent):
		return exitFailure
	}
	say(errOut, "ostiarius: %s\n", strings.ReplaceAll(err.Error(), "\n", " "))
	var usage errUsage
	if errors.As(err, &usage) {
		say(errOut, "Try: %s --help\n", command.CommandPath())
		return exitUsage
	}
	return exitFailure
}

func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:   "ostiarius",
		Short: "A doorkeeper for web sites",
		Long: `Ostiarius decides in one place who may go where on a web site. It reads a policy of doors, asks people
to sign in, sends them where they belong, and explains every answer.`,
		Example: `  ostiarius demo
  ostiarius serve --policy doors.yaml --listen localhost:8460 --data ./data
  ostiarius explain GET /office/ --policy doors.yaml --as role:volunteer`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          noArgs,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			return fromEnvironment(c.Flags())
		},
	}
	root.Version = version()
	root.SetVersionTemplate("ostiarius {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return errUsage{err} })
	root.AddCommand(newServe(), newDemo(), newCheck(), newDraft(), newDoors(), newConnect(), newExplain(), newMatrix(), newExpect(),
		newPatrol(), newReplay(), newPeople(), newAccessKeys(), newKeyrings(), newShared(), newPasses(), newSessions(), newEvents(),
		newMessages(), newUpstreams(), newActivity(), newPasswordCommand(),
		newApply(), newCompare(), newHistory(), newShow(), newRollback(), newBackup(), newRestore(), newSchema(), newVersion(), newHashWorker())
	return root
}

// fromEnvironment sets the flags that were not given from OSTIARIUS_... variables:
// --tls-cert from OSTIARIUS_TLS_CERT.
func fromEnvironment(flags *pflag.FlagSet) (err error) {
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "version" || f.Name == "help" {
			return // what one asks for, not a setting
		}
		name := "OSTIARIUS_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if value, ok := os.LookupEnv(name); ok && !f.Changed && err == nil {
			if set := flags.Set(f.Name, value); set != nil {
				err = errUsage{fmt.Errorf("the variable %s: %w", name, set)}
			}
		}
	})
	return err
}

func noArgs(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if c.HasSubCommands() {
		hint := ""
		c.SuggestionsMinimumDistance = 2
		if near := c.SuggestionsFor(args[0]); len(near) > 0 {
			hint = fmt.Sprintf("; did you mean %q?", near[0])
		}
		return errUsage{fmt.Errorf("unknown command %q for %q%s", args[0], c.CommandPath(), hint)}
	}
	return errUsage{fmt.Errorf("%s takes no arguments; remove %q", c.CommandPath(), args[0])}
}

// takes checks that the arguments named in the command's usage line are given.
func takes(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch {
		case len(args) < len(names):
			return errUsage{fmt.Errorf("%s is missing; usage: %s", names[len(args)], c.UseLine())}
		case len(args) > len(names):
			return errUsage{fmt.Errorf("%q is one argument too many; usage: %s", args[len(names)], c.UseLine())}
		}
		return nil
	}
}

// dataFlag adds the flag that says which service is meant, and returns its client.
func dataFlag(c *cobra.Command) func() *client.Client {
	data := c.PersistentFlags().String("data", defaultData, "data directory of the service")
	server := c.PersistentFlags().String("server", "",
		"address of a service on another machine, such as https://marram.example, instead of --data; needs an access key")
	keyFile := c.PersistentFlags().String("access-key-file", "",
		"file with the access key for --server; or set OSTIARIUS_ACCESS_KEY")
	return sync.OnceValue(func() *client.Client {
		if *server != "" {
			return elsewhere(*server, *keyFile)
		}
		one := client.New(*data)
		one.AtRest = atRest(c, *data)
		return one
	})
}

// atRest returns what answers from the records where no service runs, once it has said so.
func atRest(c *cobra.Command, data string) func(context.Context) (http.Handler, error) {
	var rest http.Handler
	return func(ctx context.Context) (_ http.Handler, err error) {
		if rest != nil {
			return rest, nil
		}
		if rest, _, err = service.AtRest(ctx, data); err == nil { // open until the command ends
			say(c.ErrOrStderr(), "ostiarius: note: no service is running in %s; this is read from its records\n", data)
		}
		return rest, err
	}
}

const defaultData = "./ostiarius-data"

// outputFlag adds -o and returns what was asked for, one of the choices.
func outputFlag(c *cobra.Command, choices ...string) func() (string, error) {
	output := c.Flags().StringP("output", "o", choices[0], "output: "+strings.Join(choices, ", "))
	c.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(choices, cobra.ShellCompDirectiveNoFileComp))
	return func() (string, error) {
		for _, choice := range choices {
			if *output == choice {
				return choice, nil
			}
		}
		return "", errUsage{fmt.Errorf("-o %s is unknown; use %s", *output, strings.Join(choices, " or "))}
	}
}

func newVersion() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print the version",
		Example: "  ostiarius version",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			say(c.OutOrStdout(), "ostiarius %s\n", version())
			return nil
		},
	}
}

// version is the version of this build, and of the Go that built it.
func version() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		return Version + " (" + info.GoVersion + ")"
	}
	return Version
}
