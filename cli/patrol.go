package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/patrol"
)

func newPatrol() *cobra.Command {
	c := &cobra.Command{
		Use:   "patrol [URL]",
		Short: "Check a running site as every kind of visitor, and report problems",
		Long: `Visits a site over HTTP as different visitors, follows links, and reports problems: answers that
don't match the policy, forgotten pages, fake protection, broken redirects, protected pages in
caches, and more. docs/patrol.md explains all rules.

With --data, the running service provides its policy and lets the patrol visit as each kind of
visitor. Without, you can check any site: as a visitor who isn't signed in, and as the visitors in
the --visitors file.

It only sends GET requests to the given hosts, and skips links that seem to sign out or change
something.

Exit code 0: no findings; 1: findings; 2: wrong usage.`,
		Example: `  ostiarius patrol --data ./data
  ostiarius patrol https://marram.example/ --visitors visitors.yaml --report patrol.html
  ostiarius patrol http://localhost:8080/ --around http://localhost:8081/ -o json > patrol.json`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("URL")(c, args)
			}
			return nil
		},
	}
	service := dataFlag(c)
	flags := c.Flags()
	file := flags.String("policy", "", "policy file to compare answers with, for a site without a local service")
	visitors := flags.String("visitors", "", "file with credentials of visitors, for a site without Ostiarius")
	as := flags.StringArray("as", nil, "visit as this visitor, with --data; default: all kinds in the policy")
	also := flags.StringArray("also", nil, "another address of the site to check, with the same credentials")
	around := flags.StringArray("around", nil, "an address that might bypass Ostiarius, such as the upstream server")
	methods := flags.StringSlice("methods", nil, "other methods to send to protected addresses without credentials, with nothing in "+
		"them, such as POST; only for sites where that does no harm")
	most := flags.Int("max", patrol.UsualMost, "maximum number of addresses")
	together := flags.Int("together", patrol.UsualTogether, "requests at the same time")
	rate := flags.Float64("rate", 0, "requests per second; default: no limit on this machine, 20 elsewhere")
	patience := flags.Duration("timeout", patrol.UsualPatience, "how long to wait for an answer")
	lasts := flags.Duration("for", patrol.UsualLasts, "how long the whole patrol may take")
	since := flags.String("since", "", "findings of an earlier patrol, as JSON; only new ones are reported")
	page := flags.String("report", "", "file for an HTML report")
	browser := flags.Bool("browser", false, "render pages in headless Chromium, to see what scripts add")
	output := outputFlag(c, "table", "json", "sarif")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.MarkFlagFilename("visitors", "yaml", "yml")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		o := patrol.Options{Most: *most, Together: *together, PerSecond: *rate, Patience: *patience, Lasts: *lasts}
		for _, method := range *methods {
			if method = strings.ToUpper(method); !slices.Contains([]string{"POST", "PUT", "PATCH", "DELETE", "OPTIONS", "PROPFIND"}, method) {
				return errUsage{fmt.Errorf("--methods %s is unknown; use POST, PUT, PATCH, DELETE, OPTIONS or PROPFIND", method)}
			}
			o.Methods = append(o.Methods, strings.ToUpper(method))
		}
		if *most < 1 || *together < 1 || *rate < 0 {
			return errUsage{errors.New("--max and --together must be at least 1, and --rate must not be negative")}
		}
		var before *patrol.Result
		if *since != "" {
			if before, err = readPatrol(*since); err != nil {
				return err
			}
		}
		if *browser {
			if o.Drawn, err = patrol.NewBrowser(); err != nil {
				return err
			}
		}
		ours := len(args) == 0 || c.Flags().Changed("data")
		if len(*as) > 0 && !ours {
			return errUsage{errors.New("--as needs --data; for other sites, use --visitors with a file of credentials")}
		}
		if *visitors != "" {
			if o.Visitors, err = readVisitors(*visitors); err != nil {
				return err
			}
		}
		switch {
		case *file != "":
			if o.Book, err = bookIn(c, *file); err != nil {
				return err
			}
		case ours:
			if o.Book, _, err = bookFor(c, service, ""); err != nil {
				return err
			}
		}
		var site client.Site
		if ours {
			if site, err = client.ShowSite.Ask(c.Context(), service(), client.SiteQuery{}); err != nil {
				return err
			}
			for _, spot := range site.Spots {
				o.Addresses = append(o.Addresses, (&url.URL{Path: spot.Path}).EscapedPath())
			}
		}
		for _, text := range append(append([]string{}, append(args, site.URL)[0]), *also...) {
			u, err := siteAddress(text)
			if err != nil {
				return err
			}
			o.Sites = append(o.Sites, u)
		}
		for _, text := range *around {
			u, err := siteAddress(text)
			if err != nil {
				return err
			}
			o.Around = append(o.Around, u)
		}
		if o.Book != nil {
			o.Addresses = append(o.Addresses, patrol.Examples(o.Book)...)
			o.Around = append(o.Around, patrol.Elsewhere(o.Book, o.Sites[0])...)
		}
		if o.PerSecond == 0 && !patrol.OnThisMachine(o.Sites[0].Hostname()) {
			o.PerSecond = 20
		}
		tell := func(*patrol.Result) {}
		if ours {
			made, end, err := walkAs(c, service(), &o, *as)
			if err != nil {
				return err
			}
			tell = made
			defer end()
		}
		walking := progressOn(c, "walking: address")
		o.Progress = walking.at
		found, err := patrol.Run(c.Context(), o)
		walking.done()
		if err != nil {
			return err
		}
		tell(found)
		if before != nil {
			found.Since(before)
		}
		if *page != "" {
			if err := writeReport(*page, found); err != nil {
				return err
			}
		}
		switch format {
		case "json":
			err = writeJSON(c.OutOrStdout(), found)
		case "sarif":
			err = writePatrolSARIF(c.OutOrStdout(), found)
		default:
			err = writePatrol(c.OutOrStdout(), found)
		}
		if err == nil && len(found.Findings) > 0 {
			return errSilent
		}
		return err
	}
	return c
}

func siteAddress(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return nil, errUsage{fmt.Errorf("%q isn't the address of a site; use one like http://localhost:8080/", text)}
	}
	return u, nil
}

// walkAs has the service judge the patrol as each kind of visitor, until end is called. Made tells the service what was found.
func walkAs(c *cobra.Command, service *client.Client, o *patrol.Options, as []string) (made func(*patrol.Result), end func(), err error) {
	var kinds []policy.Visitor
	for _, who := range as {
		v, err := policy.ParseVisitor(who)
		if err != nil {
			return nil, nil, errUsage{err}
		}
		kinds = append(kinds, v)
	}
	if len(kinds) == 0 {
		kinds = patrol.Kinds(o.Book)
	}
	kinds = slices.DeleteFunc(kinds, func(v policy.Visitor) bool { return v.String() == "anonymous" })
	var names []string
	for _, v := range kinds {
		names = append(names, v.String())
	}
	if len(names) == 0 {
		names = []string{"anonymous"} // somebody walks all the same, and is not to be counted
	}
	begun, err := client.BeginPatrol.Ask(c.Context(), service, client.NewPatrol{Visitors: names})
	if err != nil {
		return nil, nil, err
	}
	o.Mark = begun.Mark
	for i, v := range kinds {
		name := begun.Cookie
		if o.Sites[0].Scheme == "https" {
			name = begun.SecureCookie
		}
		o.Visitors = append(o.Visitors, patrol.Visitor{Who: names[i], As: v, Cookies: []*http.Cookie{{Name: name, Value: begun.Tokens[i]}}})
	}
	made = func(found *patrol.Result) {
		result, err := json.Marshal(found)
		if err == nil {
			err = client.KeepPatrol.Do(context.WithoutCancel(c.Context()), service, client.FoundByPatrol{ID: begun.ID, Result: result})
		}
		if err != nil {
			say(c.ErrOrStderr(), "ostiarius: note: the service could not list this patrol: %v\n", err)
		}
	}
	return made, func() {
		if err := client.EndWalk.Do(context.WithoutCancel(c.Context()), service, client.ByID{ID: begun.ID}); err != nil {
			say(c.ErrOrStderr(), "ostiarius: note: the visits could not be ended; they end automatically at %s: %v\n", when(&begun.Until, ""), err)
		}
	}, nil
}

func readPatrol(file string) (*patrol.Result, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("earlier findings can't be read: %w", err)
	}
	var r patrol.Result
	if err := json.Unmarshal(text, &r); err != nil || r.Findings == nil {
		return nil, fmt.Errorf("%s doesn't contain findings of a patrol; write them with -o json", file)
	}
	return &r, nil
}

func writeReport(file string, r *patrol.Result) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600) // it may show parts of closed pages
	if err != nil {
		return fmt.Errorf("the report can't be written: %w", err)
	}
	if err := patrol.WriteReport(f, r); err != nil {
		f.Close()
		return fmt.Errorf("the report can't be written: %w", err)
	}
	return f.Close()
}

func writePatrol(w io.Writer, r *patrol.Result) error {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	if len(r.Findings) > 0 {
		say(t, "SEVERITY\tRULE\tPATH\tAS\tWHAT\n")
	}
	for _, f := range r.Findings {
		say(t, "%s\t%s\t%s\t%s\t%s\n", f.Severity, f.Rule, f.Path, f.As, f.Message)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	reasons := map[string]int{}
	var order []string
	for _, l := range r.LeftOut {
		if reasons[l.Reason]++; reasons[l.Reason] == 1 {
			order = append(order, l.Reason)
		}
	}
	say(w, "%s: %s, visited as %s, with %s in %s.\n", r.Site, addresses(r.Visited), strings.Join(r.Visitors, " · "),
		amount(r.Requests, "request"), r.Took)
	for _, reason := range order {
		say(w, "Skipped (%d): %s.\n", reasons[reason], reason)
	}
	if len(r.Findings) == 0 {
		say(w, "No findings.\n")
	} else {
		say(w, "%s.\n", amount(len(r.Findings), "finding"))
	}
	return nil
}

func addresses(n int) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}

func writePatrolSARIF(w io.Writer, r *patrol.Result) error {
	type object = map[string]any
	rules, results := []object{}, []object{}
	var names []string
	for _, f := range r.Findings {
		if !slices.Contains(names, f.Rule) {
			names = append(names, f.Rule)
			rules = append(rules, object{"id": f.Rule, "shortDescription": object{"text": patrol.About[f.Rule]}})
		}
		results = append(results, object{
			"ruleId": f.Rule, "ruleIndex": slices.Index(names, f.Rule), "level": string(f.Severity),
			"message": object{"text": f.Message + " (as " + f.As + ")"},
			"locations": []object{{"physicalLocation": object{"artifactLocation": object{"uri": cmp.Or(strings.TrimPrefix(f.Path,
				"/"), "index")}, "region": object{"startLine": 1}}}},
			"partialFingerprints": object{"finding/v1": f.Key()},
		})
	}
	return writeSARIFRun(w, rules, results)
}
