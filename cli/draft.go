package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/core/document"
	places "ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/site"
	"ostiarius/service/rule/inspect"
)

// The most places that a draft is made of.
const mostDrafted = 50_000

func newDraft() *cobra.Command {
	c := &cobra.Command{
		Use:   "draft",
		Short: "Write a first policy from files, addresses or a log",
		Long: `Prints a first policy, based on the files of a site, a list of addresses, a sitemap, or an access
log, with a reason on each line. With --stance closed, visitors have to sign in, and doors for
places that look public are written as comments: remove the # to open them. With --stance open,
everyone gets in, except to places that look private. Backups, keys and the like are blocked in
both. You can use the result with serve as it is.

On a terminal the command asks what it can't know; press Enter for the usual answer. In a pipe it
asks nothing.`,
		Example: `  ostiarius draft --files ./public > doors.yaml
  ostiarius draft --files ./public --stance open
  ostiarius draft --log /var/log/access.log --proxy http://127.0.0.1:3000 > doors.yaml
  ostiarius draft --addresses sitemap.xml`,
		Args: noArgs,
	}
	files := c.Flags().String("files", "", "directory of the site's files, which the policy then serves")
	list := c.Flags().String("addresses", "", "list of addresses, one on each line, or a sitemap; - is standard input")
	log := c.Flags().String("log", "", "access log in the Common or the Combined Log Format; - is standard input")
	proxy := c.Flags().String("proxy", "", "server that answers for the site, such as http://127.0.0.1:3000")
	name := c.Flags().String("site", "", "name of the site")
	stance := choice(c.Flags(), "stance", "how places without a door are treated", string(site.Closed), string(site.Open))
	c.MarkFlagDirname("files")
	c.RunE = func(c *cobra.Command, _ []string) error {
		how, err := stance()
		if err != nil {
			return err
		}
		if *files == "" && *list == "" && *log == "" {
			return errUsage{errors.New("name the source: --files, --addresses or --log")}
		}
		if *files != "" && *proxy != "" {
			return errUsage{errors.New("--files and --proxy can't be used together")}
		}
		sketch := site.Sketch{Stance: site.Stance(how), Site: *name, Files: *files, Proxy: *proxy}
		var from []string
		if *files != "" {
			found, err := filesIn(*files)
			if err != nil {
				return err
			}
			sketch.Places, from = append(sketch.Places, found...), append(from, fmt.Sprintf("the files in %s", *files))
		}
		if *list != "" {
			requests, err := readAddresses(*list, c.InOrStdin())
			if err != nil {
				return err
			}
			for _, r := range requests {
				if p, err := places.Read("GET", "", r.Path, places.Rules{}); err == nil {
					sketch.Places = append(sketch.Places, p)
				}
			}
			from = append(from, "the addresses in "+called(*list))
		}
		if *log != "" {
			found, lines, err := readLog(*log, c.InOrStdin())
			if err != nil {
				return err
			}
			sketch.Places, from = append(sketch.Places, found...), append(from, amount(lines, "answered request")+" in "+called(*log))
		}
		if *list != "-" && *log != "-" && isConversation(c) {
			interview(c, &sketch)
		}
		sketch.From = strings.ReplaceAll(safe(strings.Join(from, " and "), false), "\n", " ")
		text := site.Draft(sketch)
		if book, findings := read.Parse("the draft", []byte(text)); book == nil {
			writeFindings(c.ErrOrStderr(), "the draft", []byte(text), findings)
			return errors.New("the draft has errors; check the values of the flags")
		}
		_, err = io.WriteString(c.OutOrStdout(), text)
		return err
	}
	return c
}

// called is what a file is called, or standard input.
func called(name string) string {
	if name == "-" {
		return "standard input"
	}
	return name
}

// filesIn returns the places at which the files of a directory would be served.
func filesIn(directory string) ([]places.Place, error) {
	if info, err := os.Stat(directory); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("%s isn't a readable directory", directory)
	}
	book, findings := read.Parse("draft", []byte("sources: [ { path: /, files: "+document.Scalar(directory)+" } ]\ndoors: [ { path: "+
		"/**, admit: public } ]\n"))
	if book == nil {
		return nil, fmt.Errorf("--files %s: %s", directory, findings[0].Message)
	}
	found, _ := inspect.Addresses(book, "draft", mostDrafted)
	return found, nil
}

// readLog returns the places that an access log shows to be there: those that were answered with success, or led
// elsewhere; and how many requests that were.
func readLog(name string, in io.Reader) (found []places.Place, requests int, err error) {
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, 0, fmt.Errorf("the log can't be read: %w", err)
		}
		defer file.Close()
		in = file
	}
	seen := map[string]bool{}
	lines := bufio.NewReader(in)
	for {
		line, err := lines.ReadString('\n')
		method, target, status, ok := site.ReadLogLine(strings.TrimRight(line, "\r\n"))
		if ok && status < 400 && slices.Contains([]string{"GET", "HEAD", "POST"}, method) {
			_, path, _ := places.SplitTarget(target)
			if p, unreadable := places.Read("GET", "", path, places.Rules{}); unreadable == nil {
				requests++
				if !seen[p.Path] && len(found) < mostDrafted {
					seen[p.Path] = true
					found = append(found, p)
				}
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, 0, fmt.Errorf("the log can't be read: %w", err)
		}
	}
	if requests == 0 {
		return nil, 0, fmt.Errorf("%s has no answered request in the Common or the Combined Log Format", name)
	}
	return found, requests, nil
}

// The most parts of a site of which it is asked who they are for.
const mostAsked = 6

// interview asks what nobody can know from names: that of the site, what becomes of what is not decided, who the parts
// are for that look as if they were for some people, and whether what looks public is so. What a flag says is not asked.
func interview(c *cobra.Command, s *site.Sketch) {
	in := bufio.NewReader(c.InOrStdin())
	ask := func(usual, format string, args ...any) string {
		say(c.ErrOrStderr(), format+" [%s] ", append(args, usual)...)
		line, _ := in.ReadString('\n')
		return cmp.Or(strings.TrimSpace(line), usual)
	}
	if !c.Flags().Changed("site") {
		s.Site = ask("This site", "What is the site called?")
	}
	if !c.Flags().Changed("stance") {
		if strings.HasPrefix(ask("closed", "Places without a door: closed until visitors sign in, or open to everyone?"), "o") {
			s.Stance = site.Open
		}
	}
	asked, public := 0, 0
	for _, p := range site.Propose(s.Places) {
		switch p.Admit {
		case policy.Public:
			public++
		case policy.SignedIn:
			if asked++; asked > mostAsked {
				continue
			}
			role := ask("everybody who is signed in", "Who is %s for (%s)? The name of a role, such as editor:", safe(p.Path, false), p.Why)
			if role == "everybody who is signed in" {
				continue
			}
			if _, err := policy.ParseDemand("role:" + role); err != nil || strings.ContainsAny(role, " :+") {
				say(c.ErrOrStderr(), "A role is one word of letters, digits, - and _. Not changed.\n")
				continue
			}
			if s.Roles == nil {
				s.Roles = map[string]string{}
			}
			s.Roles[p.Path] = role
		}
	}
	if s.Stance == site.Closed && public > 0 {
		s.Open = strings.HasPrefix(ask("no",
			"%s %s public. Open it now, yes or no? Otherwise it is written as comments.", amount(public, "part"),
			map[bool]string{true: "looks", false: "look"}[public == 1]), "y")
	}
}
