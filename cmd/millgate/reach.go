package main

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"millgate/app/workspace"
	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
)

func formatCommand() *cobra.Command {
	var write, list bool
	c := &cobra.Command{
		Use:   "format FILE …",
		Short: "Write declarations in the canonical layout",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			differ := false
			for _, file := range args {
				text, err := os.ReadFile(file)
				if err != nil {
					return exit{exitWrong, err}
				}
				if _, msgs, err := readDeclaration(file); err != nil {
					return err
				} else if m := workspace.Syntax(msgs); m != nil {
					return exit{exitWrong, fmt.Errorf("%s: %s; nothing was changed", m.Place, m.Text)}
				}
				out, err := layout.Format(string(text))
				if err != nil {
					return exit{exitWrong, fmt.Errorf("%s: %w; nothing was changed", file, err)}
				}
				switch {
				case list:
					if out != string(text) {
						differ = true
						fmt.Fprintln(cmd.OutOrStdout(), file)
					}
				case write:
					if out != string(text) {
						if err := workspace.ReplaceFile(file, out); err != nil {
							return exit{exitWrong, err}
						}
					}
				default:
					fmt.Fprint(cmd.OutOrStdout(), out)
				}
			}
			if differ {
				return exit{exitFindings, nil}
			}
			return nil
		},
	}
	c.Flags().BoolVarP(&write, "write", "w", false, "write the files in place of printing")
	c.Flags().BoolVarP(&list, "list", "l", false, "list the files whose layout differs, and exit with 1 when there "+
		"are any")
	return c
}

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the language, for other editors",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := cmd.OutOrStdout().Write(declaration.Schema)
			return err
		},
	}
}

func reachCommand() *cobra.Command {
	var format, identity, at string
	c := &cobra.Command{
		Use:   "reach FILE (--identity NAME | --route \"METHOD /path\")",
		Short: "Say what an identity can reach, or who can reach a route",
		Args:  cobra.ExactArgs(1),
		Example: `  millgate reach fernhollow.gate.yaml --identity imre
  millgate reach fernhollow.gate.yaml --route "POST /v1/dome/slew" --format json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			if (identity == "") == (at == "") {
				return exit{exitWrong, fmt.Errorf("say --identity NAME or --route \"METHOD /path\"; nobody is who is " +
					"not signed in")}
			}
			d, err := meant(cmd, args[0])
			if err != nil {
				return err
			}
			var list []access.Reached
			if at != "" {
				i := d.RouteNamed(strings.Join(strings.Fields(at), " "))
				if i < 0 {
					return exit{exitWrong, access.NoRoute(d, at)}
				}
				list = access.WhoReaches(d, i)
			} else if list, err = access.ReachOf(d, identity); err != nil {
				return exit{exitWrong, err}
			}
			out := cmd.OutOrStdout()
			if format == "json" {
				return writeJSON(out, map[string]any{"reach": list})
			}
			printReach(out, painter(out), list, at != "")
			return nil
		},
	}
	formatFlag(c, &format)
	c.Flags().StringVar(&identity, "identity", "", "an identity of the declaration, or nobody")
	c.Flags().StringVar(&at, "route", "", "a route of the inventory")
	return c
}

func printReach(out io.Writer, p paint, list []access.Reached, callers bool) {
	wide := 0
	for _, r := range list {
		wide = max(wide, len(r.Route), len(r.Caller))
	}
	n := 0
	for _, r := range list {
		name := r.Route
		if callers {
			name = r.Caller
		}
		line := fmt.Sprintf("%-*s  %-22s %s", wide, name, r.Outcome, r.Why)
		if r.Admitted {
			n++
			fmt.Fprintln(out, line)
		} else {
			fmt.Fprintln(out, p.faint(line))
		}
	}
	what := "routes are reached"
	if callers {
		what = "callers reach it"
	}
	fmt.Fprintf(out, "%d of %d %s\n", n, len(list), what)
}

func diffCommand() *cobra.Command {
	var format string
	var failOpen bool
	c := &cobra.Command{
		Use:   "diff OLD NEW",
		Short: "Say which crossings a change of the declaration opens and closes",
		Args:  cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			old, err := meant(cmd, args[0])
			if err != nil {
				return err
			}
			doc, err := meant(cmd, args[1])
			if err != nil {
				return err
			}
			diff := access.Compare(old, doc)
			out := cmd.OutOrStdout()
			if format == "json" {
				if err := writeJSON(out, diff); err != nil {
					return err
				}
			} else {
				printDiff(out, painter(out), diff)
			}
			if failOpen && diff.Opens+diff.Undecided > 0 {
				return exit{exitFindings, nil}
			}
			return nil
		},
	}
	formatFlag(c, &format)
	c.Flags().BoolVar(&failOpen, "fail-open", false, "exit with 1 when a crossing opens, or is decided no longer")
	return c
}

func printDiff(out io.Writer, p paint, d access.Diff) {
	for _, c := range d.Changes {
		caller := c.Caller
		if caller == "" {
			caller = "nobody"
		}
		sign := map[access.Turn]string{access.Opens: p.bad("opens "), access.Closes: "closes",
			access.Other: p.faint("other "), access.Undecides: p.bad("undecided")}[c.Turn]
		fmt.Fprintf(out, "%s  %-14s %-40s %s → %s\n", sign, caller, c.Route, c.From, c.To)
	}
	for _, r := range d.Added {
		fmt.Fprintf(out, "new     %s\n", r)
	}
	for _, r := range d.Gone {
		fmt.Fprintf(out, "gone    %s\n", r)
	}
	fmt.Fprintf(out, "%s: %d open, %d close, %d change otherwise, %d no longer decided; %d routes new, %d gone\n",
		count(len(d.Changes), "crossing"), d.Opens, d.Closes, d.Other, d.Undecided, len(d.Added), len(d.Gone))
}
