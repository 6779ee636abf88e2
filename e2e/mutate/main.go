// Mutate breaks a package in one place after the other, and says where no test of its own notices: make mutate PKG=core/throttle.
//
// What breaks nothing that anybody could see is accepted in testdata/equivalent.txt of the package, each with its reason:
//
//	file.go | the line, without its indent | before -> after | why nobody could see it
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/build"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

func main() {
	sample := flag.Int("sample", 0, "how many are tried, drawn by lot; 0 for all")
	seed := flag.Uint64("seed", 1, "of the lot")
	together := flag.Int("together", 2, "how many are tried at once")
	flag.Parse()
	if flag.NArg() != 1 {
		fmt.Fprintln(os.Stderr, "mutate: name one package, such as core/throttle")
		os.Exit(2)
	}
	if err := run(filepath.Clean(flag.Arg(0)), *sample, *seed, *together); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

// A mutant is a package with one change.
type mutant struct {
	file, line    string // the line without its indent
	at            token.Position
	before, after string
	text          []byte // of the whole file
}

func (m *mutant) key() string {
	return filepath.Base(m.file) + " | " + m.line + " | " + m.before + " -> " + m.after
}

// What became of a mutant.
type fate int

const (
	killed fate = iota
	lived
	none // it does not compile
)

var errLived = errors.New("what no test notices is listed above: write a test, or accept it with its reason")

func run(dir string, sample int, seed uint64, together int) error {
	all, err := mutantsOf(dir)
	if err != nil {
		return err
	}
	accepted, err := acceptedIn(dir)
	if err != nil {
		return err
	}
	rand.New(rand.NewPCG(seed, 0)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	if sample > 0 && sample < len(all) {
		all = all[:sample]
	}
	began := time.Now()
	if err := exec.Command("go", "test", "-vet=off", "-count=1", "./"+dir).Run(); err != nil {
		return fmt.Errorf("the tests of %s fail as they are: %w", dir, err)
	}
	longest := 10*time.Second + 5*time.Since(began) // for what goes on and on
	fates := make([]fate, len(all))
	var turn sync.WaitGroup
	next := make(chan int)
	for range together {
		turn.Go(func() {
			for i := range next {
				fates[i] = try(dir, &all[i], longest)
			}
		})
	}
	for i := range all {
		next <- i
	}
	close(next)
	turn.Wait()
	count := map[fate]int{}
	equivalent := 0
	var alive []string
	for i, f := range fates {
		m := &all[i]
		if f == lived && accepted[m.key()] {
			equivalent++
			continue
		}
		if count[f]++; f == lived {
			alive = append(alive, fmt.Sprintf("%s:%d:%d: %s", m.file, m.at.Line, m.at.Column, m.key()))
		}
	}
	slices.Sort(alive)
	for _, one := range alive {
		fmt.Println(one)
	}
	tried := count[killed] + count[lived]
	fmt.Printf("%s: %d of %d noticed (%.2f); %d accepted as equivalent, %d do not compile; %s\n", dir, count[killed], tried,
		float64(count[killed])/float64(max(tried, 1)), equivalent, count[none], time.Since(began).Round(time.Second))
	if len(alive) > 0 {
		return errLived
	}
	return nil
}

// acceptedIn reads which mutants break nothing.
func acceptedIn(dir string) (map[string]bool, error) {
	file := filepath.Join(dir, "testdata", "equivalent.txt")
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	accepted := map[string]bool{}
	for i, line := range strings.Split(string(text), "\n") {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		at := strings.LastIndex(line, " | ")
		if at < 0 || strings.Count(line[:at], " | ") < 2 || strings.TrimSpace(line[at+3:]) == "" {
			return nil, fmt.Errorf("%s:%d: write file | line | before -> after | reason", file, i+1)
		}
		accepted[line[:at]] = true
	}
	return accepted, err
}

// try runs the tests of the package with one mutant in the place of its file, for so long at the most.
func try(dir string, m *mutant, longest time.Duration) fate {
	tmp, err := os.MkdirTemp("", "mutant")
	if err != nil {
		return none
	}
	defer os.RemoveAll(tmp)
	changed, overlay := filepath.Join(tmp, "mutant.go"), filepath.Join(tmp, "overlay.json")
	absolute, _ := filepath.Abs(m.file)
	list, _ := json.Marshal(map[string]any{"Replace": map[string]string{absolute: changed}})
	if os.WriteFile(changed, m.text, 0o600) != nil || os.WriteFile(overlay, list, 0o600) != nil {
		return none
	}
	program := filepath.Join(tmp, "package.test")
	if exec.Command("go", "test", "-vet=off", "-ldflags=-s -w", "-overlay", overlay, "-c", "-o", program, "./"+dir).Run() != nil {
		return none
	}
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	test := exec.CommandContext(ctx, program, "-test.failfast")
	test.Dir = dir
	if test.Run() != nil {
		return killed
	}
	return lived
}

// mutantsOf returns all mutants of a package's files.
func mutantsOf(dir string) (all []mutant, err error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		if here, err := build.Default.MatchFile(dir, filepath.Base(file)); err != nil || !here || strings.HasSuffix(file, "_test.go") {
			continue // what is for other systems is not compiled here
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, file, text, 0)
		if err != nil {
			return nil, err
		}
		lines := strings.Split(string(text), "\n")
		change := func(from, to token.Pos, after string) {
			a, b := set.Position(from), set.Position(to)
			before := string(text[a.Offset:b.Offset])
			all = append(all, mutant{file, strings.TrimSpace(lines[a.Line-1]), a, oneLine(before), oneLine(after),
				slices.Concat(text[:a.Offset], []byte(after), text[b.Offset:])})
		}
		ast.Inspect(tree, func(n ast.Node) bool { return mutate(n, change) })
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s has nothing to change", dir)
	}
	return all, nil
}

func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	return text[:min(len(text), 60)]
}

// others are what an operator becomes.
var others = map[token.Token][]string{
	token.EQL: {"!="}, token.NEQ: {"=="}, token.LSS: {"<=", ">="}, token.LEQ: {"<", ">"}, token.GTR: {">=", "<="}, token.GEQ: {">", "<"},
	token.LAND: {"||"}, token.LOR: {"&&"}, token.ADD: {"-"}, token.SUB: {"+"}, token.MUL: {"/"}, token.QUO: {"*"}, token.REM: {"*"},
	token.AND: {"|"}, token.OR: {"&"}, token.SHL: {">>"}, token.SHR: {"<<"},
}

// mutate makes the mutants of one node, and reports whether what is in it is to be changed as well.
func mutate(n ast.Node, change func(from, to token.Pos, after string)) bool {
	switch n := n.(type) {
	case *ast.ImportSpec, *ast.Field:
		return false
	case *ast.BinaryExpr:
		for _, other := range others[n.Op] {
			change(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), other)
		}
	case *ast.UnaryExpr:
		if n.Op == token.NOT {
			change(n.OpPos, n.OpPos+1, "")
		}
	case *ast.BasicLit:
		if n.Kind == token.INT {
			if v, err := strconv.ParseInt(n.Value, 0, 64); err == nil {
				change(n.Pos(), n.End(), strconv.FormatInt(v+1, 10))
			}
		}
	case *ast.Ident:
		if n.Name == "true" || n.Name == "false" {
			change(n.Pos(), n.End(), strconv.FormatBool(n.Name == "false"))
		}
	case *ast.ExprStmt:
		change(n.Pos(), n.End(), "")
	case *ast.IncDecStmt:
		change(n.Pos(), n.End(), "")
	case *ast.AssignStmt:
		if n.Tok != token.DEFINE {
			change(n.Pos(), n.End(), "")
		}
	case *ast.IfStmt:
		if n.Init == nil {
			change(n.Cond.Pos(), n.Cond.End(), "true")
			change(n.Cond.Pos(), n.Cond.End(), "false")
		}
	case *ast.BranchStmt:
		if n.Label == nil && n.Tok == token.CONTINUE {
			change(n.Pos(), n.End(), "break")
		}
	}
	return true
}
