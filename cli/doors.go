package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ostiarius/client"
	places "ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/prove"
	"ostiarius/service/rule/replace"
)

func newDoors() *cobra.Command {
	c := &cobra.Command{
		Use:   "doors",
		Short: "See and change who may go where, door by door",
		Long: `Shows the doors of a policy, or changes one in its text. Everything else in the file stays the same, byte
for byte. With --policy it works on a file; without, on the running service, which gets a new version.`,
		Example: `  ostiarius doors list --policy doors.yaml
  ostiarius doors show /rota/2026/ --policy doors.yaml
  ostiarius doors set "/newsletters/**" --admit role:keeper --policy doors.yaml
  ostiarius doors remove "/newsletters/**" --data ./data`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	file := c.PersistentFlags().String("policy", "", "policy file; default: the policy of the running service")
	c.MarkPersistentFlagFilename("policy", "yaml", "yml")
	c.AddCommand(doorsList(service, file), doorsShow(service, file), doorsSet(service, file), doorsRemove(service, file))
	return c
}

// A listedDoor is a door as it is listed.
type listedDoor struct {
	Line      int    `json:"line"`            // 0 for what is built in
	Check     string `json:"check,omitempty"` // its name, for what a program asks beside the doors
	Door      string `json:"door"`            // its methods, host and path
	Admits    string `json:"admits"`
	Otherwise string `json:"otherwise,omitempty"`
	Decides   bool   `json:"decides,omitempty"` // at the address that was asked for
	Sentence  string `json:"sentence,omitempty"`
}

func listed(d *policy.Door) listedDoor {
	admits := d.Admit.String()
	if d.Basic {
		admits += fmt.Sprintf(", ask: basic, realm: %q", d.Realm)
	}
	return listedDoor{
		Line: d.Line, Check: d.Check, Door: d.Where(), Admits: admits, Otherwise: d.Otherwise.Text(), Sentence: d.Sentence().String(),
	}
}

func (l listedDoor) door() string {
	if l.Check == "" {
		return l.Door
	}
	return "check " + l.Check + ": " + l.Door
}

func (l listedDoor) where() string {
	if l.Line == 0 {
		return "-"
	}
	return fmt.Sprint(l.Line)
}

func doorsList(service func() *client.Client, file *string) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the doors in file order",
		Example: "  ostiarius doors list --policy doors.yaml -o json",
		Args:    noArgs,
	}
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		book, _, err := bookFor(c, service, *file)
		if err != nil {
			return err
		}
		var all []listedDoor
		for i := range book.Doors {
			all = append(all, listed(&book.Doors[i]))
		}
		for i := range book.Checks {
			all = append(all, listed(&book.Checks[i]))
		}
		all = append(all, listedDoor{Line: book.Unlisted.Line, Door: "(unlisted)", Admits: book.UnlistedWord()})
		return writeList(c, format, all, "", "LINE\tDOOR\tADMITS\tOTHERWISE", func(t io.Writer, l listedDoor) {
			say(t, "%s\t%s\t%s\t%s\n", l.where(), l.door(), l.Admits, dash(shorten(l.Otherwise, 60)))
		})
	}
	return c
}

func doorsShow(service func() *client.Client, file *string) *cobra.Command {
	c := &cobra.Command{
		Use:   "show ADDRESS",
		Short: "Show the doors and checks that cover an address, and which of them decide",
		Example: `  ostiarius doors show /office/keys/ --policy doors.yaml
  ostiarius doors show https://marram.example/log/ --method POST`,
		Args: takes("ADDRESS"),
	}
	method := c.Flags().String("method", "GET", "method of the request")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		request, _, err := policy.ReadRequest(*method, args[0])
		if err != nil {
			return errUsage{err}
		}
		book, _, err := bookFor(c, service, *file)
		if err != nil {
			return err
		}
		at, err := places.Read(request.Method, request.Host, request.Path, book.Rules)
		if err != nil {
			return errUsage{err}
		}
		deciding := book.Deciding(at)
		var all []listedDoor
		for _, d := range book.Covering(at) {
			l := listed(d)
			l.Decides = slices.ContainsFunc(deciding,
				func(other *policy.Door) bool { return other.Position == d.Position && other.Label() == d.Label() })
			all = append(all, l)
		}
		none := fmt.Sprintf("no door covers %s; places without a door are set to %s", at.Path, book.UnlistedWord())
		err = writeList(c, format, all, none, "\tLINE\tDOOR\tADMITS\tOTHERWISE", func(t io.Writer, l listedDoor) {
			mark := ""
			if l.Decides {
				mark = "decides"
			}
			say(t, "%s\t%s\t%s\t%s\t%s\n", mark, l.where(), l.door(), l.Admits, dash(shorten(l.Otherwise, 60)))
		})
		for _, d := range deciding {
			if format == "table" && len(all) > 0 {
				say(c.OutOrStdout(), "%s\n", d.Sentence())
			}
		}
		return err
	}
	return c
}

func doorsSet(service func() *client.Client, file *string) *cobra.Command {
	c := &cobra.Command{
		Use:   "set PATTERN --admit DEMAND",
		Short: "Set who may go to a path: change its door, or add one",
		Long: `Sets the door for exactly this path, host and methods. If there is none, one is added next to the
most similar door. DEMAND is what follows admit in a policy, or a short form: public, signed-in,
nobody, role:keeper, keyring:outer+role:trustee (+ means and). The command shows the change in the
text, and what it opens and closes. Before it lets people in where they couldn't go before, it asks on a
terminal; elsewhere, --yes is needed.`,
		Example: `  ostiarius doors set "/newsletters/**" --admit role:keeper --policy doors.yaml
  ostiarius doors set "/sheds/**" --admit keyring:outer --data ./data --comment "the sheds are locked"
  ostiarius doors set /vault --admit "{ any: [ { role: trustee }, { user: agnes } ] }" --otherwise hide --dry-run`,
		Args: takes("PATTERN"),
	}
	at := placesFlags(c)
	admit := c.Flags().String("admit", "", "who may go there (required)")
	ask := choice(c.Flags(), "ask", "how visitors are asked to sign in", "form", "basic")
	realm := c.Flags().String("realm", "", "with --ask basic: text in the browser's dialog; default: the site's name")
	otherwise := c.Flags().String("otherwise", "", "different answer for everyone else: hide, or for example \"{ refused: { go: /ask/ } }\"")
	change := changeFlags(c, service, file)
	c.RunE = func(c *cobra.Command, args []string) error {
		if *admit == "" {
			return errUsage{errors.New("--admit is missing; say who may go there, such as --admit role:keeper")}
		}
		var door edit.SetDoor
		var err error
		if door.Admit, err = policy.ParseDemand(*admit); err != nil {
			return errUsage{fmt.Errorf("--admit: %w", err)}
		}
		if door.Otherwise, err = policy.ParseOtherwise(*otherwise); err != nil {
			return errUsage{fmt.Errorf("--otherwise: %w", err)}
		}
		how, err := ask()
		if err != nil {
			return err
		}
		if door.Basic, door.Realm = how == "basic", *realm; door.Realm != "" && !door.Basic {
			return errUsage{errors.New("--realm needs --ask basic")}
		}
		return change(c, func(book *policy.Book) (edit.Edit, error) {
			set, err := at(book, args[0])
			door.Set, door.Written = set.Set, set.Written
			return door, err
		})
	}
	return c
}

func doorsRemove(service func() *client.Client, file *string) *cobra.Command {
	c := &cobra.Command{
		Use:     "remove PATTERN",
		Short:   "Remove the door for a path; the door above it then decides",
		Example: "  ostiarius doors remove \"/newsletters/**\" --policy doors.yaml --dry-run",
		Args:    takes("PATTERN"),
	}
	at := placesFlags(c)
	change := changeFlags(c, service, file)
	c.RunE = func(c *cobra.Command, args []string) error {
		return change(c, func(book *policy.Book) (edit.Edit, error) {
			set, err := at(book, args[0])
			return edit.RemoveDoor{Set: set.Set}, err
		})
	}
	return c
}

// placesFlags adds the flags that say, with a path, which door is meant.
func placesFlags(c *cobra.Command) func(book *policy.Book, path string) (edit.SetDoor, error) {
	host := c.Flags().String("host", "", "only for this host, such as marram.example or *.marram.example")
	methods := c.Flags().StringSlice("methods", nil, "only for these methods, such as POST,DELETE")
	return func(book *policy.Book, path string) (edit.SetDoor, error) {
		set, err := edit.NewDoor(book, path, *host, *methods...)
		if err != nil {
			err = errUsage{err}
		}
		return set, err
	}
}

// changeFlags adds the flags of a command that changes the text of a policy, and returns how that is done:
// the difference is shown, and what it opens and closes, before the file or the running service has it.
func changeFlags(c *cobra.Command, service func() *client.Client, file *string) func(c *cobra.Command,
	edit func(*policy.Book) (edit.Edit, error)) error {
	yes := c.Flags().Bool("yes", false, "apply it without a question, even if it lets people in where they couldn't go before")
	dry := c.Flags().Bool("dry-run", false, "only show what would change")
	noOpening := c.Flags().Bool("no-opening", false, "refuse any change that lets people in where they couldn't go before")
	comment := c.Flags().StringP("comment", "m", "", "reason, for the history of the running service")
	over := overEditFlag(c)
	return func(c *cobra.Command, make func(*policy.Book) (edit.Edit, error)) error {
		name, text, base := *file, []byte(nil), int64(0)
		var err error
		if name != "" {
			text, err = readFile(name)
		} else {
			var v client.Version
			if v, err = client.ShowPolicy.Ask(c.Context(), service(), client.None{}); err != nil {
				return orFile(err)
			}
			name, text, base = fmt.Sprintf("version %d", v.ID), []byte(v.Text), v.ID
		}
		if err != nil {
			return err
		}
		before, err := bookOf(c, name, text)
		if err != nil {
			return err
		}
		change, err := make(before)
		if err != nil {
			return err
		}
		after, err := edit.Apply(name, text, change)
		if err != nil {
			return err
		}
		out := c.OutOrStdout()
		if string(after.Text) == string(text) {
			say(out, "no changes: the policy already says that\n")
			return nil
		}
		differences, err := prove.Compare(before, after.Book)
		if err != nil {
			return fmt.Errorf("the effect could not be proven, so nothing was changed: %w", err)
		}
		say(out, "%s", ready(safe(udiff.Unified(name, name, string(text), string(after.Text)), true)))
		writeDifferences(out, differences)
		if set, ok := change.(edit.SetDoor); ok {
			say(out, "%s\n", after.Book.DoorFor(set.Set).Sentence())
			if base != 0 {
				writeRemarks(c, service(), set)
			}
		}
		opened := slices.ContainsFunc(differences, func(d prove.Difference) bool { return d.Effect == "opened" })
		switch {
		case *dry:
			say(out, "nothing was changed: this was a dry run\n")
			return nil
		case opened && *noOpening:
			return errors.New("this would let people in where they couldn't go before, so nothing was changed")
		case opened && !*yes && !confirmed(c):
			return errors.New("this would let people in where they couldn't go before, so nothing was changed. Repeat with --yes to apply it")
		}
		if base == 0 {
			if err := replace.File(*file, text, after.Text); err != nil {
				return fmt.Errorf("%s cannot be written: %w", *file, err)
			}
			say(out, "changed %s\n", *file)
			return nil
		}
		applied, err := client.ApplyPolicy.Ask(c.Context(), service(),
			client.Draft{Text: string(after.Text), Comment: *comment, Base: base, NoOpening: *noOpening, OverEdit: *over})
		if err != nil {
			return orOver(err)
		}
		say(out, "version %d is active\n", applied.Version.ID)
		return nil
	}
}

// writeRemarks says what the running service knows of a door that is not wrong and keeps people out all the same,
// such as a role that nobody has.
func writeRemarks(c *cobra.Command, service *client.Client, set edit.SetDoor) {
	edited, err := client.EditPolicy.Ask(c.Context(), service,
		client.Edits{Edits: []client.Edit{{
			Kind: "door", Path: set.Written, Host: set.Set.Host.String(), Methods: set.Set.Methods.Names(), Admit: set.Admit.String(),
		}}})
	if err != nil {
		return // it is the door that counts, and whether it can be set is said next
	}
	for _, remark := range edited.Remarks {
		say(c.OutOrStdout(), "note: %s\n", remark)
	}
}

// confirmed asks on a terminal whether to go on. Elsewhere nobody is asked.
func confirmed(c *cobra.Command) bool {
	if !isConversation(c) {
		return false
	}
	say(c.ErrOrStderr(), "This lets people in where they couldn't go before, as shown above. Type yes to continue: ")
	line, _ := bufio.NewReader(c.InOrStdin()).ReadString('\n')
	return strings.EqualFold(strings.TrimSpace(line), "yes")
}

// isConversation reports whether somebody reads what is asked, and can answer.
func isConversation(c *cobra.Command) bool {
	in, ok := c.InOrStdin().(*os.File)
	return ok && term.IsTerminal(int(in.Fd())) && isTerminal(c.ErrOrStderr())
}
