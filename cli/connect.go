package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/core/connect"
	"ostiarius/core/policy/read"
)

// The web servers for which a configuration can be written.
var besides = []string{"nginx", "caddy", "haproxy", "apache"}

func newConnect() *cobra.Command {
	c := &cobra.Command{
		Use:   "connect SERVER",
		Short: "Configure another web server to ask Ostiarius",
		Long: `Writes what the configuration of a web server (` + strings.Join(besides, ", ") + `) needs to ask
Ostiarius about each request, while it keeps serving the site itself. Comments at the top say where
the configuration goes, how to start Ostiarius for it, and how to test it.`,
		Example: `  ostiarius connect nginx --policy doors.yaml --to http://127.0.0.1:8460 > /etc/nginx/ostiarius.conf
  ostiarius connect nginx --policy doors.yaml --to unix:/run/ostiarius/front.sock --skip-public
  ostiarius connect --check http://localhost --policy doors.yaml`,
		ValidArgs: besides,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("SERVER")(c, args)
			}
			return nil
		},
	}
	file := c.Flags().String("policy", "doors.yaml", "policy file")
	to := c.Flags().String("to", "http://127.0.0.1:8460",
		"where the web server reaches Ostiarius: an address, or unix: and the path of its --front-socket")
	skip := c.Flags().Bool("skip-public", false, "don't ask for places that are open to everyone")
	content := c.Flags().String("content", "", "for nginx, with --skip-public: a file with the directives by which the files of public "+
		"directories are served, such as root and index; they are then as fast as without Ostiarius")
	script := c.Flags().Bool("script", false, "for haproxy: write the script that asks")
	identity := c.Flags().String("identity", "", "sign the visitor's identity for an upstream server with this name")
	authorizer := c.Flags().String("authorizer", "127.0.0.1:8463", "for apache: where Ostiarius is asked, its own --authorizer")
	check := c.Flags().String("check", "", "send up to 300 requests to the web server at this address, as a visitor who "+
		"isn't signed in, and report whether the "+
		"doors work there")
	output := outputFlag(c, "text", "json")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.MarkFlagFilename("content")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *check == "" && (len(args) == 0 || !slices.Contains(besides, args[0])) {
			return errUsage{fmt.Errorf("name the web server: %s", strings.Join(besides, ", "))}
		}
		book, text, findings, err := readPolicy(*file, c)
		if err != nil {
			return err
		}
		if book == nil {
			writeFindings(c.ErrOrStderr(), *file, text, findings)
			return errors.New("the policy has errors; fix them first")
		}
		if *check != "" {
			return checkConnected(c, book, *check, format)
		}
		site := connect.Site{Book: book, SkipPublic: *skip, Identity: *identity}
		if site.Authorizer, err = connect.ParseAuthorizer(*authorizer); err != nil {
			return errUsage{err}
		}
		if *content != "" {
			if args[0] != "nginx" || !*skip {
				return errUsage{errors.New("--content is only for nginx, with --skip-public")}
			}
			text, err := os.ReadFile(*content)
			if err != nil {
				return err
			}
			if site.Content, err = connect.ParseContent(string(text)); err != nil {
				return fmt.Errorf("%s: %w", *content, err)
			}
		}
		if *identity != "" && !read.Audience(*identity) {
			return errUsage{fmt.Errorf("--identity %q isn't a valid name; use one like stock", *identity)}
		}
		if site.To, err = connect.ParseTo(*to); err != nil {
			return errUsage{err}
		}
		if err := site.Check(); err != nil {
			return err
		}
		write := map[string]func() string{"nginx": site.Nginx, "caddy": site.Caddy, "haproxy": site.HAProxy, "apache": site.Apache}[args[0]]
		if *script {
			if args[0] != "haproxy" {
				return errUsage{errors.New("--script is only for haproxy")}
			}
			write = site.HAProxyScript
		}
		for _, warning := range site.Warnings(args[0]) {
			say(c.ErrOrStderr(), "ostiarius: note: %s\n", warning)
		}
		_, err = fmt.Fprint(c.OutOrStdout(), write())
		return err
	}
	return c
}
