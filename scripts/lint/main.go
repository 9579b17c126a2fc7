// Lint holds the code to what go vet and staticcheck do not look at: no error is dropped,
// contexts are handed on, switches over closed sets name every member, and lines and
// functions stay readable.
//
//	lint ./...
package main

import (
	"go/ast"
	"go/token"
	"os"
	"strings"

	"github.com/kisielk/errcheck/errcheck"
	"github.com/kkHAIKE/contextcheck"
	"github.com/nishanths/exhaustive"
	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/analysis/multichecker"
	"golang.org/x/tools/go/types/typeutil"
)

const (
	columns = 120 // of a line; a tab is as wide as four
	tab     = 4
	body    = 80  // lines of a function, but of tests
	data    = 100 // columns of a text that is data: its line cannot be broken
)

var lines = &analysis.Analyzer{Name: "lines", Doc: "at most 120 columns", Run: func(p *analysis.Pass) (any, error) {
	for _, f := range p.Files {
		if ast.IsGenerated(f) {
			continue
		}
		file := p.Fset.File(f.FileStart)
		text, err := os.ReadFile(file.Name())
		if err != nil {
			return nil, err
		}
		free := texts(f, file)
		for i, l := range strings.Split(string(text), "\n") {
			if width(l) > columns && !free[i+1] {
				p.Reportf(file.LineStart(i+1), "the line has %d columns, at most %d are read at a glance", width(l), columns)
			}
		}
	}
	return nil, nil
}}

// texts are the lines on which a text stands that is data: one over several lines, or a long one.
func texts(f *ast.File, file *token.File) map[int]bool {
	out := map[int]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		l, ok := n.(*ast.BasicLit)
		if !ok || l.Kind != token.STRING {
			return true
		}
		from, to := file.Line(l.Pos()), file.Line(l.End())
		raw := l.Value[0] == '`'
		for i := from; i <= to && (raw && len(l.Value) > data/2 || width(l.Value) > data || to > from); i++ {
			out[i] = true
		}
		return true
	})
	return out
}

func width(line string) (n int) {
	for _, r := range line {
		if r == '\t' {
			n += tab
		} else {
			n++
		}
	}
	return n
}

// functions holds functions to their length.
var functions = &analysis.Analyzer{Name: "functions", Doc: "functions of at most 80 lines", Run: func(p *analysis.Pass) (any, error) {
	for _, f := range p.Files {
		if ast.IsGenerated(f) || strings.HasSuffix(p.Fset.Position(f.Pos()).Filename, "_test.go") {
			continue
		}
		for _, d := range f.Decls {
			x, ok := d.(*ast.FuncDecl)
			if !ok || x.Body == nil {
				continue
			}
			if n := p.Fset.Position(x.Body.End()).Line - p.Fset.Position(x.Body.Pos()).Line - 1; n > body {
				p.Reportf(x.Pos(), "%s has %d lines, at most %d say one thing", x.Name.Name, n, body)
			}
		}
	}
	return nil, nil
}}

func main() {
	// A default says what becomes of the members that are not named.
	if err := exhaustive.Analyzer.Flags.Set("d", "true"); err != nil {
		panic(err)
	}
	// What is printed to people: nobody could be told that it was not.
	if err := errcheck.Analyzer.Flags.Set("exclude", "scripts/lint/printed.txt"); err != nil {
		panic(err)
	}
	multichecker.Main(lines, functions, heeding(errcheck.Analyzer), heeding(exhaustive.Analyzer),
		ours(heeding(contextcheck.NewAnalyzer(contextcheck.Configuration{}))))
}

// ours is an analyzer that says nothing of calls of other modules: what they do inside is
// theirs.
func ours(a *analysis.Analyzer) *analysis.Analyzer {
	out := *a
	out.Run = func(p *analysis.Pass) (any, error) {
		theirs := map[token.Pos]bool{}
		for _, f := range p.Files {
			ast.Inspect(f, func(n ast.Node) bool {
				if call, ok := n.(*ast.CallExpr); ok {
					if f := typeutil.Callee(p.TypesInfo, call); f != nil && f.Pkg() != nil &&
						!strings.HasPrefix(f.Pkg().Path(), "millgate") {
						theirs[call.Lparen] = true
						for _, x := range call.Args {
							theirs[x.Pos()] = true
						}
					}
				}
				return true
			})
		}
		q := *p
		q.Report = func(d analysis.Diagnostic) {
			if !theirs[d.Pos] {
				p.Report(d)
			}
		}
		return a.Run(&q)
	}
	return &out
}

// heeding is an analyzer that says nothing of a line with //nolint and its name, which has
// the reason behind it.
func heeding(a *analysis.Analyzer) *analysis.Analyzer {
	out := *a
	out.Run = func(p *analysis.Pass) (any, error) {
		q := *p
		q.Report = func(d analysis.Diagnostic) {
			if !waived(p, d.Pos, a.Name) {
				p.Report(d)
			}
		}
		return a.Run(&q)
	}
	return &out
}

func waived(p *analysis.Pass, at token.Pos, name string) bool {
	place := p.Fset.Position(at)
	for _, f := range p.Files {
		if p.Fset.Position(f.Pos()).Filename != place.Filename {
			continue
		}
		for _, g := range f.Comments {
			for _, c := range g.List {
				if strings.HasPrefix(c.Text, "//nolint:"+name+" // ") && p.Fset.Position(c.Pos()).Line == place.Line {
					return true
				}
			}
		}
	}
	return false
}
