package cli

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/replay"
	"ostiarius/patrol"
)

func newReplay() *cobra.Command {
	c := &cobra.Command{
		Use:   "replay LOG...",
		Short: "Replay access logs against a policy",
		Long: `Reads access logs and reports which requests would get a different answer under a policy: by door
and address, with the number of requests and people, the first and the last time. It also lists
places without a door.

A log is in the Common or Combined Log Format, also with extra fields before and after, or has one
JSON object per line. It can be compressed with gzip; - is standard input. With --against, the old
answers are computed from that policy; without, they are taken from the status. The user field tells
who sent a request; with --data, their roles at the time are known, too. Where the user is unknown,
each kind of visitor is tried, and the result says so.

Exit code 0: no differences; 1: differences; 2: wrong usage.`,
		Example: `  ostiarius replay /var/log/nginx/access.log* --policy doors.yaml
  ostiarius replay access.log --policy draft.yaml --against doors.yaml --data ./data
  zcat access.log.2.gz | ostiarius replay - --policy doors.yaml -o json`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return takes("LOG")(c, args)
			}
			return nil
		},
	}
	service := dataFlag(c)
	file := c.Flags().String("policy", "", "the policy; default: the policy of the running service")
	against := c.Flags().String("against", "", "the previous policy: a file, or a version number of the running service")
	host := c.Flags().String("host", "", "the host of the requests, where the log doesn't contain it")
	most := c.Flags().Int("most", 50, "maximum number of addresses shown per group; JSON has all")
	output := outputFlag(c, "table", "json")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *most < 1 {
			return errUsage{errors.New("--most is a number from 1")}
		}
		o := replay.Options{Host: *host}
		if o.New, _, err = bookFor(c, service, *file); err != nil {
			return err
		}
		if *against != "" {
			if o.Old, err = bookNamed(c, service, *against); err != nil {
				return err
			}
		}
		o.Kinds = patrol.Kinds(o.New)
		if c.Flags().Changed("data") {
			o.Who = rolesAtTheTime(c.Context(), service())
		}
		found, err := replayLogs(c, args, o)
		if err != nil {
			return err
		}
		if format == "json" {
			err = writeJSON(c.OutOrStdout(), found)
		} else {
			err = writeReplay(c.OutOrStdout(), found, *most)
		}
		if err == nil && found.Changed > 0 {
			return errSilent
		}
		return err
	}
	return c
}

// rolesAtTheTime asks the service what accounts could do at a time. Each is asked for once.
func rolesAtTheTime(ctx context.Context, service *client.Client) func(string, time.Time) (policy.Visitor, bool) {
	var mu sync.Mutex
	known := map[string]*client.Person{}
	return func(name string, at time.Time) (policy.Visitor, bool) {
		mu.Lock()
		defer mu.Unlock()
		person, asked := known[name]
		if !asked {
			if found, err := client.ShowPerson.Ask(ctx, service, client.ByName{Name: name}); err == nil {
				person = &found
			}
			known[name] = person
		}
		if person == nil {
			return policy.Visitor{}, false
		}
		v := policy.Visitor{SignedIn: true, Account: person.Name}
		for _, g := range person.Grants {
			if !at.Before(g.From) && (g.Until == nil || at.Before(*g.Until)) {
				v.Roles = append(v.Roles, g.Role)
			}
		}
		return v, true
	}
}

// The lines that are judged together: enough that handing them over costs nothing.
const portion = 256 << 10

// replayLogs judges all lines of some files, in as many portions at once as there are processors.
func replayLogs(c *cobra.Command, files []string, o replay.Options) (replay.Result, error) {
	defer debug.SetGCPercent(debug.SetGCPercent(30)) // what is held is little, and what passes is much
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(36 << 20))
	first := replay.New(o)
	workers := []*replay.Replay{first}
	for range runtime.GOMAXPROCS(0) - 1 {
		workers = append(workers, first.Beside())
	}
	portions := make(chan []byte, len(workers))
	free := make(chan []byte, 2*len(workers)+2)
	var all sync.WaitGroup
	for _, w := range workers {
		all.Go(func() {
			for lines := range portions {
				whole := lines
				for len(lines) > 0 {
					line, rest, _ := bytes.Cut(lines, []byte{'\n'})
					w.Line(line)
					lines = rest
				}
				select {
				case free <- whole:
				default:
				}
			}
		})
	}
	reading := progressOn(c, "reading: MB")
	var total int64
	for _, name := range files {
		if f, err := os.Stat(name); err == nil {
			total += f.Size()
		}
	}
	var read atomic.Int64
	err := func() error {
		for _, name := range files {
			if err := eachPortion(c, name, &read, free, func(lines []byte) {
				portions <- lines
				reading.at(int(read.Load()>>20), int(total>>20))
			}); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		return nil
	}()
	close(portions)
	all.Wait()
	reading.done()
	if err != nil {
		return replay.Result{}, err
	}
	for _, w := range workers[1:] {
		first.Merge(w)
	}
	return first.Result(), nil
}

// counted counts what is read.
type counted struct {
	io.Reader
	n *atomic.Int64
}

func (r counted) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.n.Add(int64(n))
	return n, err
}

// eachPortion calls f with whole lines of a file, many at a time. A line that is longer than a portion is left out but for its beginning.
func eachPortion(c *cobra.Command, name string, read *atomic.Int64, free chan []byte, f func([]byte)) error {
	from := c.InOrStdin()
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return errors.Unwrap(err)
		}
		defer file.Close()
		from = file
	}
	source := bufio.NewReaderSize(counted{from, read}, 64<<10)
	var text io.Reader = source
	if magic, _ := source.Peek(2); len(magic) == 2 && magic[0] == 0x1f && magic[1] == 0x8b {
		unzipped, err := gzip.NewReader(source)
		if err != nil {
			return fmt.Errorf("this isn't a complete gzip file: %w", err)
		}
		text = unzipped
	}
	take := func() []byte {
		select {
		case used := <-free:
			return used[:0]
		default:
			return make([]byte, 0, portion)
		}
	}
	buffer, dropping := take(), false
	for c.Context().Err() == nil {
		n, err := text.Read(buffer[len(buffer):cap(buffer)])
		buffer = buffer[:len(buffer)+n]
		if dropping {
			at := bytes.IndexByte(buffer, '\n')
			if at >= 0 {
				buffer, dropping = append(buffer[:0], buffer[at+1:]...), false
			} else {
				buffer = buffer[:0]
			}
		}
		if err == io.EOF {
			if len(buffer) > 0 {
				f(buffer)
			}
			return nil
		}
		if err != nil {
			return fmt.Errorf("it breaks off: %w", err)
		}
		if len(buffer) < cap(buffer) {
			continue
		}
		last := bytes.LastIndexByte(buffer, '\n')
		next := take()
		if last < 0 {
			dropping = true
			last = len(buffer) - 1
		} else {
			next = append(next, buffer[last+1:]...)
		}
		f(buffer[:last+1])
		buffer = next
	}
	return c.Context().Err()
}

func writeReplay(w io.Writer, r replay.Result, most int) error {
	span := ""
	if r.First != nil {
		span = fmt.Sprintf(", from %s to %s", r.First.Format("2006-01-02 15:04"), r.Last.Format("2006-01-02 15:04"))
	}
	say(w, "%s of %s%s.\n", amount(int(r.Requests), "request"), amount(int(r.Lines), "line"), span)
	if r.Unread > 0 {
		say(w, "%s could not be read, such as: %s\n", amount(int(r.Unread), "line"), r.Example)
	}
	if r.Unknown > 0 {
		say(w, "For %s, the log doesn't contain the user; each kind of visitor was tried.\n", amount(int(r.Unknown), "request"))
	}
	for _, part := range []struct {
		effect replay.Effect
		head   string
	}{
		{replay.Closed, "Allowed then, denied now"}, {replay.Opened, "Denied then, allowed now"},
		{replay.Depends, "Different for some of the possible visitors"},
	} {
		var groups []replay.Group
		var requests int64
		for _, g := range r.Groups {
			if g.Effect == part.effect {
				groups, requests = append(groups, g), requests+g.Requests
			}
		}
		if len(groups) == 0 {
			continue
		}
		say(w, "\n%s: %s\n", part.head, amount(int(requests), "request"))
		t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
		say(t, "REQUESTS\tPEOPLE\tADDRESS\tBEFORE\tNOW\tFOR\tDOOR\tFIRST\tLAST\n")
		for _, g := range groups[:min(len(groups), most)] {
			door := g.Door.Path
			if g.Door.Line > 0 {
				door = fmt.Sprintf("line %d, %s", g.Door.Line, g.Door.Path)
			}
			say(t, "%d\t%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", g.Requests, g.People, strings.TrimSpace(g.Method+" "+g.Host+g.Path), g.Before,
				g.After, forWhom(g.Visitors), door, when(g.First, "-"), when(g.Last, "-"))
		}
		if err := t.Flush(); err != nil {
			return err
		}
		if len(groups) > most {
			say(w, "... and %d more; --most shows them\n", len(groups)-most)
		}
	}
	if len(r.Uncovered) > 0 {
		say(w, "\nPlaces without a door:\n")
		t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
		for _, u := range r.Uncovered[:min(len(r.Uncovered), most)] {
			say(t, "%d\t%s %s%s\n", u.Requests, u.Method, u.Host, u.Path)
		}
		if err := t.Flush(); err != nil {
			return err
		}
		if len(r.Uncovered) > most {
			say(w, "... and %d more\n", len(r.Uncovered)-most)
		}
	}
	if r.Rejected > 0 {
		say(w, "\n%s would be rejected as invalid.\n", amount(int(r.Rejected), "request"))
	}
	if r.Changed == 0 {
		say(w, "\nNo request would certainly get a different answer.\n")
	} else {
		say(w, "\n%s would get a different answer.\n", amount(int(r.Changed), "request"))
	}
	return nil
}

// forWhom names visitors, or how many there are.
func forWhom(visitors []string) string {
	if len(visitors) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(visitors[:2], ", "), len(visitors)-2)
	}
	return strings.Join(visitors, ", ")
}
