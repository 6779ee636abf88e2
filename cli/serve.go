package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ostiarius/core/document"
	"ostiarius/core/policy/read"
	"ostiarius/core/secret"
	"ostiarius/core/site"
	"ostiarius/service"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/listen/access"
	"ostiarius/service/rule/inforce"
)

func newServe() *cobra.Command {
	c := &cobra.Command{
		Use:   "serve",
		Short: "Guard a site",
		Long: `Guards the site that the policy describes, until interrupted. A new version of the policy file is
applied when it is saved without errors. If it lets people in where they couldn't go before, it is
applied after the file has been unchanged for some time (--policy-quiet).

Each flag can also be set by a variable (--tls-cert by OSTIARIUS_TLS_CERT) or by a line in a
settings file (tls-cert: cert.pem). Flags override variables, and variables override the file. Paths
in the settings file are relative to it.`,
		Example: `  ostiarius serve --policy doors.yaml --listen localhost:8460 --data ./data
  ostiarius serve --policy doors.yaml --listen :443 --tls-cert cert.pem --tls-key key.pem
  ostiarius serve --settings settings.yaml`,
		Args: noArgs,
	}
	settings := service.Settings{Version: Version}
	flags := c.Flags()
	flags.StringVar(&settings.Policy, "policy", "doors.yaml", "policy file")
	files := flags.String("files", "",
		"directory of the site's files; used to write a first policy file if there is none")
	proxy := flags.String("proxy", "", "upstream server of the site, such as http://127.0.0.1:3000; used to write a "+
		"first policy file if there is none")
	flags.DurationVar(&settings.PolicyQuiet, "policy-quiet", 3*time.Second,
		"how long the policy file must be unchanged before it may open anything")
	flags.IntVar(&settings.KeepVersions.Versions, "keep-versions", 1000,
		"maximum number of policy versions to keep, at least 20; 0 for all")
	versionsSize := flags.Int64("keep-versions-mb", 100, "maximum size of the kept versions in megabytes; 0 for no limit")
	flags.StringVar(&settings.Listen, "listen", "localhost:8460", "address to listen on; port 0 picks a free one")
	flags.StringVar(&settings.Console, "console", "",
		"separate origin for the console: HOST:PORT to listen on, or a host name; the console is then available only there")
	flags.StringVar(&settings.Data, "data", defaultData, "directory for records and the socket")
	flags.BoolVar(&settings.AcceptLoss, "accept-loss", false, "start even if part of the records is missing")
	flags.StringVar(&settings.Cert, "tls-cert", "", "certificate for HTTPS (PEM file)")
	flags.StringVar(&settings.Key, "tls-key", "", "private key of the certificate (PEM file)")
	flags.BoolVar(&settings.PlainHTTP, "plain-http", false, "allow plain HTTP beyond loopback, behind a server that speaks HTTPS")
	flags.StringVar(&settings.Redirect, "redirect-http", "", "address that redirects plain HTTP to HTTPS, such as :80")
	addressFrom := choice(flags, "address-from", "header in which trusted peers send the client's address", "x-forwarded-for",
		"forwarded", "x-real-ip")
	schemeFrom := choice(flags, "scheme-from", "header in which trusted peers send the scheme", "fitting", "x-forwarded-proto", "forwarded")
	hostFrom := choice(flags, "host-from", "header in which trusted peers send the requested host", "host", "x-forwarded-host",
		"forwarded")
	decideFrom := choice(flags, "decide-from", "header in which a trusted peer that serves the site itself sends the address it asks about "+
		"at /door/decide", "none", "x-forwarded-uri", "x-original-uri")
	flags.StringVar(&settings.FrontSocket, "front-socket", "",
		"Unix socket for servers in front and beside; every program that may write to it is a trusted peer")
	flags.StringVar(&settings.Authorizer, "authorizer", "",
		"HOST:PORT where trusted peers that serve the site themselves, such as Apache, ask by FastCGI")
	odd := choice(flags, "odd-fields", "how to treat header fields with other characters than letters, digits and - in their names, "+
		"for upstream servers", "drop", "refuse")
	flags.DurationVar(&settings.BodyIdle, "body-idle", 30*time.Second, "how long a client may pause while it sends a body")
	flags.IntVar(&settings.Connections, "connections", 8192, "maximum number of connections; one network gets at most a quarter of them")
	flags.StringVar(&settings.Challenges, "acme-files", "",
		"directory for /.well-known/acme-challenge/, served over plain HTTP")
	hsts := flags.String("hsts", "180d", "how long browsers should use only HTTPS (HSTS); 0 turns it off")
	peers := flags.StringSlice("trusted-peer", nil,
		"network of servers in front whose forwarding headers are trusted, such as 10.0.0.0/8")
	metrics := flags.StringSlice("metrics-from", nil, "network that may read the metrics without signing in, such as 10.0.0.0/8")
	flags.StringVar(&settings.URL, "url", "", "public address of the site, for links, if different from --listen")
	mailServer := mailFlags(flags)
	elsewhere := elsewhereFlags(flags)
	flags.StringSliceVar(&settings.Telling.Hosts, "events-to", nil,
		"host that may receive notifications, such as desk.example or desk.example:8443")
	flags.BoolVar(&settings.Telling.Private, "events-private", false,
		"allow notifications to private addresses and this machine, also over plain HTTP")
	logForm := choice(flags, "log", "format of the log on standard error", "text", "json")
	flags.StringVar(&settings.AccessLog, "access-log", "", "access log file, with a line for each request; reopened on SIGHUP")
	accessForm := choice(flags, "access-log-form", "format of the access log", access.Forms...)
	keep := flags.String("keep-activity", "90d", "how long to keep activity; 0 for forever")
	keepDecisions := flags.String("keep-decisions", "0",
		"how long to keep decisions (without queries) to replay them with a new policy, such as 7d; 0 turns it off")
	flags.IntVar(&settings.KeepEvents, "keep-events", 1_000_000, "maximum number of activity records; the oldest are removed first")
	memory := flags.Uint32("hash-memory", secret.DefaultCost.Memory>>10,
		"memory for hashing a password, in MiB; cheaper hashes are renewed at the next sign-in")
	passes := flags.Uint32("hash-passes", secret.DefaultCost.Passes, "passes for hashing a password")
	file := flags.String("settings", "", "file with settings, in YAML")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.MarkFlagFilename("settings", "yaml", "yml")
	c.RunE = func(c *cobra.Command, _ []string) error {
		err := fromFile(flags, *file, "policy", "data", "tls-cert", "tls-key", "mail-password-file", "access-log", "acme-files", "front-socket")
		if err != nil {
			return err
		}
		front := &guard.Front{}
		if front.Peers, err = networks("trusted-peer", *peers); err != nil {
			return err
		}
		settings.Front = front
		for _, c := range []struct {
			read func() (string, error)
			to   *string
		}{{addressFrom, &front.Address}, {schemeFrom, &front.Scheme}, {hostFrom, &front.Host}} {
			if *c.to, err = c.read(); err != nil {
				return err
			}
			*c.to = http.CanonicalHeaderKey(*c.to)
		}
		if front.Scheme == "Fitting" {
			front.Scheme = map[bool]string{true: guard.Forwarded, false: guard.XForwardedProto}[front.Address == guard.Forwarded]
		}
		if front.Host == "Host" {
			front.Host = ""
		}
		if settings.Beside, err = decideFrom(); err != nil {
			return err
		}
		if settings.Beside = http.CanonicalHeaderKey(settings.Beside); settings.Beside == "None" {
			settings.Beside = ""
		}
		form, err := logForm()
		if err != nil {
			return err
		}
		settings.Log = logTo(c.ErrOrStderr(), form)
		if form, err = accessForm(); err != nil {
			return err
		}
		settings.AccessForm = access.Form(form)
		what, err := odd()
		if err != nil {
			return err
		}
		settings.RefuseOdd = what == "refuse"
		if settings.BodyIdle <= 0 || settings.Connections < 64 {
			return errUsage{errors.New("--body-idle must be more than 0, and --connections at least 64")}
		}
		if settings.PolicyQuiet < time.Millisecond || settings.KeepVersions.Versions < 0 || *versionsSize < 0 {
			return errUsage{errors.New("--policy-quiet must be more than 0, and --keep-versions and --keep-versions-mb must not be negative")}
		}
		if err := mailServer(&settings); err != nil {
			return err
		}
		if err := elsewhere(&settings.Elsewhere); err != nil {
			return err
		}
		settings.KeepVersions.Bytes = *versionsSize * 1_000_000
		if settings.KeepEvents < 1000 {
			return errUsage{errors.New("--keep-events must be at least 1000")}
		}
		if *file != "" {
			settings.Private = append(settings.Private, *file)
		}
		if settings.MetricsFrom, err = networks("metrics-from", *metrics); err != nil {
			return err
		}
		if settings.KeepDecisions, err = document.ParseDuration(*keepDecisions); err != nil {
			return errUsage{fmt.Errorf("--keep-decisions %s is not a duration; use one like 7d", *keepDecisions)}
		}
		if settings.KeepActivity, err = document.ParseDuration(*keep); err != nil {
			return errUsage{fmt.Errorf("--keep-activity %s is not a duration; use one like 90d", *keep)}
		}
		if settings.HSTS, err = document.ParseDuration(*hsts); err != nil {
			return errUsage{fmt.Errorf("--hsts %s is not a duration; use one like 180d", *hsts)}
		}
		if *memory < secret.DefaultCost.Memory>>10 || *memory > 1024 || *passes < secret.DefaultCost.Passes || *passes > 20 {
			return errUsage{fmt.Errorf("use 19 to 1024 MiB and 2 to 20 passes to hash passwords; less would be too easy to guess")}
		}
		settings.Cost = secret.Cost{Memory: *memory << 10, Passes: *passes, Threads: secret.DefaultCost.Threads}
		if *files == "" && *proxy == "" {
			return run(c, settings, nil)
		}
		if err := firstPolicy(c, settings.Policy, *files, *proxy); err != nil {
			return err
		}
		return run(c, settings, func(s *service.Service) error {
			link, err := s.FirstLink(c.Context())
			if err == nil && link != nil {
				status := s.Status()
				say(c.OutOrStdout(), "%s", ready(firstLink(&status, *link)))
			}
			return err
		})
	}
	return c
}

// firstPolicy writes a first policy file, if there is none.
func firstPolicy(c *cobra.Command, file, files, proxy string) error {
	if files != "" && proxy != "" {
		return errUsage{errors.New("--files and --proxy can't be used together")}
	}
	if _, err := os.Lstat(file); err == nil {
		say(c.ErrOrStderr(), "ostiarius: note: %s exists; --files and --proxy are only used without a policy file\n", file)
		return nil
	}
	sketch := site.Sketch{Stance: site.Closed, Proxy: proxy, From: "what answers at " + proxy}
	if files != "" {
		found, err := filesIn(files)
		if err != nil {
			return err
		}
		sketch.Files, sketch.Places, sketch.From = files, found, "the files in "+safe(files, false)
		if at, err := filepath.Abs(files); err == nil { // the policy's directories are relative to it
			if home, err := filepath.Abs(filepath.Dir(file)); err == nil {
				if near, err := filepath.Rel(home, at); err == nil {
					sketch.Files = "./" + filepath.ToSlash(near)
				}
			}
		}
	}
	text := site.Draft(sketch)
	if book, findings := read.Parse(file, []byte(text)); book == nil {
		writeFindings(c.ErrOrStderr(), file, []byte(text), findings)
		return errUsage{errors.New("the first policy could not be created")}
	}
	to, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("the first policy can't be written: %w", err)
	}
	_, err = to.WriteString(text)
	if err := errors.Join(err, to.Close()); err != nil {
		return fmt.Errorf("the first policy can't be written: %w", err)
	}
	say(c.OutOrStdout(), "wrote a first policy, %s: visitors have to sign in until you change it\n", file)
	return nil
}

// choice adds a flag that takes one of some words, the first unless it is given, and returns what
// it was given.
func choice(flags *pflag.FlagSet, name, usage string, words ...string) func() (string, error) {
	value := flags.String(name, words[0], usage+": "+strings.Join(words, ", "))
	return func() (string, error) {
		if !slices.Contains(words, *value) {
			return "", errUsage{fmt.Errorf("--%s %s is unknown; use %s", name, *value, strings.Join(words, " or "))}
		}
		return *value, nil
	}
}

// networks reads the networks of a flag.
func networks(flag string, texts []string) (all []netip.Prefix, err error) {
	for _, text := range texts {
		network, err := netip.ParsePrefix(text)
		if address, single := netip.ParseAddr(text); single == nil {
			network, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return nil, errUsage{fmt.Errorf("--%s %s isn't a network; use one like 10.0.0.0/8", flag, text)}
		}
		all = append(all, network)
	}
	return all, nil
}

// run opens the service, says where it listens, and serves until an interrupt. When it is
// ready, it calls ready with the service.
func run(c *cobra.Command, settings service.Settings, ready func(*service.Service) error) error {
	settings.HashApart = hashing.Command(hashWorker)
	if settings.Log == nil {
		settings.Log = logTo(c.ErrOrStderr(), "text")
	}
	ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	air := make([]byte, airOfHeap)
	defer runtime.KeepAlive(air)
	s, err := service.Open(settings)
	var unfit *inforce.Unfit
	if errors.As(err, &unfit) {
		writeFindings(c.ErrOrStderr(), settings.Policy, unfit.Text, unfit.Findings)
	}
	if err != nil {
		return err
	}
	defer s.Close()
	if ready != nil {
		if err := ready(s); err != nil {
			return err
		}
	}
	if plain := s.PlainURL(); plain != "" {
		say(c.OutOrStdout(), "redirecting %s to HTTPS\n", plain)
	}
	if console := s.ConsoleURL(); console != "" {
		say(c.OutOrStdout(), "console on %s\n", console)
	}
	say(c.OutOrStdout(), "listening on %s\n", s.URL())
	if settings.AccessLog != "" {
		defer reopenOnHangup(s, settings.Log)()
	}
	context.AfterFunc(ctx, stop) // a second interrupt ends the process at once
	return s.Serve(ctx)
}

// logTo returns a log that is written in a form, text or json.
func logTo(w io.Writer, form string) *slog.Logger {
	if form == "json" {
		return slog.New(slog.NewJSONHandler(w, nil))
	}
	return slog.New(slog.NewTextHandler(w, nil))
}

// reopenOnHangup has the access log opened anew whenever SIGHUP comes, until the returned function is called.
func reopenOnHangup(s *service.Service, log *slog.Logger) (end func()) {
	hangup := make(chan os.Signal, 1)
	signal.Notify(hangup, syscall.SIGHUP)
	go func() {
		for range hangup {
			if err := s.Reopen(); err != nil {
				log.Error("the access log can't be reopened; the previous file is still used", "error", err)
			}
		}
	}()
	return func() { signal.Stop(hangup); close(hangup) }
}

// Memory that is taken and never touched, in bytes. It takes no room of the machine, but counts when
// the collector works out how much may be wasted before it comes again. Without it the small heap of a
// small site is gone through many times a second when requests come fast.
const airOfHeap = 32 << 20

const hashWorker = "hash-worker"

// newHashWorker is what the service starts for itself; people have no use for it.
func newHashWorker() *cobra.Command {
	return &cobra.Command{
		Use: hashWorker, Short: "Hash passwords for a running service, which starts this itself", Hidden: true, Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return hashing.Work(c.InOrStdin(), c.OutOrStdout()) },
	}
}
