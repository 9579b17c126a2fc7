package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"millgate/core/access"
	"millgate/core/declaration"
)

func explainCommand() *cobra.Command {
	var format, record string
	var broken bool
	c := &cobra.Command{
		Use:   "explain FILE \"METHOD /path\" CALLER",
		Short: "Say what is expected of one request, and the ladder that leads there; sends nothing",
		Args:  cobra.ExactArgs(3),
		Example: `  millgate explain fernhollow.gate.yaml "GET /v1/proposals/{id}" imre --record p-202
  millgate explain fernhollow.gate.yaml "GET /v1/proposals/p-202" nobody`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			d, err := meant(cmd, args[0])
			if err != nil {
				return err
			}
			x, err := access.Explain(d, args[1], args[2], record, broken)
			if err != nil {
				return exit{exitWrong, err}
			}
			out := cmd.OutOrStdout()
			if format == "json" {
				return writeJSON(out, explanation(x))
			}
			printExplanation(out, painter(out), x)
			return nil
		},
	}
	formatFlag(c, &format)
	c.Flags().StringVar(&record, "record", "", "the `ID` of the record that is asked for; without one, what holds for "+
		"an own one")
	c.Flags().BoolVar(&broken, "broken", false, "with a credential that does not verify")
	return c
}

func explanation(x access.Explained) map[string]any {
	m := map[string]any{"route": x.Route, "caller": x.Caller, "record": x.Record, "whose": x.Whose,
		"expect": x.Outcome.String(), "depends": x.Depends, "status": x.Status(), "ladder": x.Ladder}
	if x.Depends {
		m["on"] = declaration.OnNames(x.On)
	}
	if x.Entry != nil {
		m["entry"] = x.Entry.Place
	}
	return m
}

func printExplanation(out io.Writer, p paint, x access.Explained) {
	what := access.OutcomeText(x.Outcome, x.On, 0)
	if s := x.Status(); s > 0 {
		what = fmt.Sprintf("%s (%d)", what, s)
	}
	fmt.Fprintf(out, "%s as %s: %s\n", p.bold(x.Route), p.bold(x.Caller), p.bold(what))
	if x.Whose != "" {
		fmt.Fprintln(out, x.Whose)
	}
	for _, r := range x.Ladder {
		line := fmt.Sprintf("%d  %-18s  %-12s %s", r.Number, r.Name, r.Result, r.Text)
		switch r.Result {
		case access.Passed:
		case access.Failed:
			line = p.bad(line)
		case access.NotReached:
			line = p.faint(fmt.Sprintf("%d  %-18s  %s", r.Number, r.Name, r.Result))
		case access.Depends:
			line = p.warn(line)
		}
		fmt.Fprintln(out, line)
	}
	if x.Entry != nil {
		fmt.Fprintln(out, p.faint(fmt.Sprintf("decided by the entry at %s", x.Entry.Place)))
	} else {
		fmt.Fprintln(out, p.faint("no entry names it"))
	}
}
