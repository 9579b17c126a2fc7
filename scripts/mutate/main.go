// Mutate tries the tests: it flips conditions of some packages, one at a time, and runs the
// tests each time. A flip that no test notices is a condition that nothing holds.
//
//	mutate -seed 1 -flips 30 -least 27 core/check core/check/sessions core/finding core/mask
//
// It prints each flip that was not noticed, and at the end how many were. The tree is not
// touched: the compiler gets the changed file in place of the one that is there.
package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// flip is a condition, and where its text stands.
type flip struct {
	file     string
	line     int
	from, to int
	text     string
}

func main() {
	seed := flag.Uint64("seed", 1, "which conditions are drawn")
	flips := flag.Int("flips", 30, "how many")
	least := flag.Int("least", 27, "how many of them the tests must notice")
	with := flag.String("with", "", "more packages whose tests are run, with commas")
	flag.Parse()
	all, err := conditions(flag.Args())
	if err != nil {
		fail(err)
	}
	if len(all) < *flips {
		fail(fmt.Errorf("there are only %d conditions", len(all)))
	}
	packages := flag.Args()
	if *with != "" {
		packages = append(packages, strings.Split(*with, ",")...)
	}
	for i, p := range packages {
		packages[i] = "./" + p
	}
	draw := rand.New(rand.NewPCG(*seed, 0))
	noticed := 0
	for _, k := range draw.Perm(len(all))[:*flips] {
		saw, err := tried(all[k], packages)
		if err != nil {
			fail(err)
		}
		if saw {
			noticed++
			continue
		}
		fmt.Printf("not noticed: %s:%d: %s\n", all[k].file, all[k].line, all[k].text)
	}
	fmt.Printf("%d of %d flipped conditions were noticed (seed %d, drawn from %d)\n", noticed, *flips, *seed, len(all))
	if noticed < *least {
		os.Exit(1)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "mutate:", err)
	os.Exit(2)
}

// conditions are those of the if statements and of the cases without a tag.
func conditions(folders []string) (out []flip, err error) {
	for _, folder := range folders {
		files, err := filepath.Glob(filepath.Join(folder, "*.go"))
		if err != nil {
			return nil, err
		}
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			more, err := conditionsOf(name)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		}
	}
	return out, nil
}

func conditionsOf(name string) (out []flip, err error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, name, text, 0)
	if err != nil {
		return nil, err
	}
	add := func(e ast.Expr) {
		from, to := set.Position(e.Pos()).Offset, set.Position(e.End()).Offset
		out = append(out, flip{name, set.Position(e.Pos()).Line, from, to, string(text[from:to])})
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.IfStmt:
			add(n.Cond)
		case *ast.SwitchStmt:
			if n.Tag != nil {
				return true
			}
			for _, c := range n.Body.List {
				for _, e := range c.(*ast.CaseClause).List {
					add(e)
				}
			}
		}
		return true
	})
	return out, nil
}

// tried flips one condition and says whether a test fails.
func tried(x flip, packages []string) (noticed bool, err error) {
	text, err := os.ReadFile(x.file)
	if err != nil {
		return false, err
	}
	dir, err := os.MkdirTemp("", "mutate")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // a temporary folder
	changed := filepath.Join(dir, filepath.Base(x.file))
	flipped := string(text[:x.from]) + "!(" + x.text + ")" + string(text[x.to:])
	if err := os.WriteFile(changed, []byte(flipped), fs.FileMode(0o600)); err != nil {
		return false, err
	}
	at, err := filepath.Abs(x.file)
	if err != nil {
		return false, err
	}
	overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{at: changed}})
	if err != nil {
		return false, err
	}
	list := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(list, overlay, fs.FileMode(0o600)); err != nil {
		return false, err
	}
	args := append([]string{"test", "-count", "1", "-short", "-timeout", "2m", "-overlay", list}, packages...)
	said, err := exec.Command("go", args...).CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return false, err
	}
	if strings.Contains(string(said), "[build failed]") {
		return false, fmt.Errorf("%s:%d: the flipped condition does not compile:\n%s", x.file, x.line, said)
	}
	return err != nil, nil
}
