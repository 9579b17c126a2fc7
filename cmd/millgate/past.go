package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/past"
	"millgate/app/report"
	"millgate/core/finding"
	"millgate/core/history"
)

// looking opens what is kept in a directory, to read.
func looking(cmd *cobra.Command, data string, look func(a *app.App) error) error {
	return within(cmd, data, "", look)
}

// within opens the workspace of a data directory with a declaration, for as long as something is done there.
func within(cmd *cobra.Command, data, file string, look func(a *app.App) error) error {
	a, err := app.Open(cmd.Context(), data, file)
	if err != nil {
		return exit{exitWrong, err}
	}
	err = look(a)
	if cerr := a.Close(); err == nil && cerr != nil {
		err = exit{exitTarget, cerr}
	}
	return err
}

func dataFlag(c *cobra.Command, data *string) {
	c.Flags().StringVar(data, "data", defaultData(), "directory of revisions and sweeps")
}

// failOnFlag says what a command leaves with 1 for.
func failOnFlag(c *cobra.Command, words *[]string) {
	c.Flags().StringSliceVar(words, "fail-on", []string{"high"}, "exit with 1 for this severity or above (low, "+
		"medium, "+
		"high, critical), or for a kind, as in leaking; again for several")
}

func readFailOn(words []string) (finding.FailOn, error) {
	on, err := finding.ParseFailOn(words...)
	if err != nil {
		return on, exit{exitWrong, fmt.Errorf("--fail-on: %w", err)}
	}
	return on, nil
}

func compareCommand() *cobra.Command {
	var data, format string
	var words []string
	c := &cobra.Command{
		Use:   "compare A B",
		Short: "Say what became of findings from one sweep to a later one",
		Long: `Say what became of findings from one sweep to a later one.

A and B are numbers of stored sweeps, or files that sweep --save wrote. A finding is

  new          it had never been a gap before
  back         it was none in A, and had been one before A or between the two
  unchanged    it is a gap in both
  mended       its probes were judged again, none shows a gap, and the same is expected
  moved        the same, but something else is expected now: the declaration changed
  not checked  a probe of it was left out, is unproven, or is not planned any more

Exit codes: 2 the arguments are wrong; else 1 something that --fail-on names is new or
back; else 0.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			on, err := readFailOn(words)
			if err != nil {
				return err
			}
			if past.Number(args[0]) == 0 && past.Number(args[1]) == 0 {
				data = "" // nothing that is kept is asked for
			}
			return looking(cmd, data, func(a *app.App) error {
				cmp, err := compareWords(cmd.Context(), a.Sweeps, args[0], args[1])
				if err != nil {
					return exit{exitWrong, err}
				}
				if format == "json" {
					err = printComparison(cmd.OutOrStdout(), cmp, on)
				} else {
					sayComparison(cmd.OutOrStdout(), painter(cmd.OutOrStdout()), cmp)
				}
				if err != nil {
					return exit{exitTarget, err}
				}
				if len(cmp.Stops(on)) > 0 {
					return exit{exitFindings, nil}
				}
				return nil
			})
		},
	}
	dataFlag(c, &data)
	formatFlag(c, &format)
	failOnFlag(c, &words)
	return c
}

// compareWords compares two sweeps, each a number or a file.
func compareWords(ctx context.Context, sw past.Sweeps, from, to string) (c past.Comparison, err error) {
	if a, b := past.Number(from), past.Number(to); a > 0 && b > 0 {
		return past.Between(ctx, sw, a, b)
	}
	before, err := past.Find(ctx, sw, from)
	if err != nil {
		return c, err
	}
	after, err := past.Find(ctx, sw, to)
	if err != nil {
		return c, err
	}
	return past.Compare(before, after)
}

// compared is a finding with what became of it, as JSON.
type compared struct {
	Change  history.Change  `json:"change"`
	Why     string          `json:"why,omitempty"`
	Finding finding.Finding `json:"finding"`
}

func printComparison(out io.Writer, c past.Comparison, on finding.FailOn) error {
	side := func(s past.Swept) map[string]any {
		return map[string]any{"name": s.Name, "sweep": s.Run.ID, "target": s.Run.Target, "revision": s.Run.Revision,
			"startedAt": s.Run.StartedAt}
	}
	list, counts, stops := []compared{}, map[history.Change]int{}, []string{}
	for _, change := range history.Changes {
		for _, l := range c.Of(change) {
			list = append(list, compared{change, c.Why(l), l.Finding})
			counts[change]++
		}
	}
	for _, l := range c.Stops(on) {
		stops = append(stops, l.Finding.ID)
	}
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(map[string]any{"version": past.Version, "from": side(c.A), "to": side(c.B), "counts": counts,
		"findings": list, "stops": stops})
}

func sayComparison(out io.Writer, p paint, c past.Comparison) {
	fmt.Fprintf(out, "%s, from %s to %s: %s\n", p.bold(c.B.Run.Target), c.A.Name, c.B.Name, c.Summary())
	if a, b := c.A.Run.Revision, c.B.Run.Revision; a != b && a > 0 && b > 0 {
		fmt.Fprintf(out, "revision %d of the declaration, then %d\n", a, b)
	}
	for _, change := range history.Changes {
		list := c.Of(change)
		if len(list) == 0 {
			continue
		}
		fmt.Fprintf(out, "\n%s\n", p.bold(string(change)))
		for _, l := range list {
			f := l.Finding
			fmt.Fprintf(out, "  %s %-8s  %s  %s  %s\n", f.Kind, f.Severity, f.Where(), f.Title, p.faint(f.ID))
			if why := c.Why(l); why != "" {
				fmt.Fprintf(out, "      %s\n", p.faint(why))
			}
		}
	}
}

func sweepsCommand() *cobra.Command {
	var data, format, target string
	c := &cobra.Command{
		Use:   "sweeps",
		Short: "List the sweeps that are kept",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			return looking(cmd, data, func(a *app.App) error {
				list, err := past.Runs(cmd.Context(), a.Sweeps, target)
				if err != nil {
					return exit{exitTarget, err}
				}
				list = slices.DeleteFunc(list, func(r *events.Run) bool { return !past.Whole(r) })
				out := cmd.OutOrStdout()
				if format == "json" {
					return json.NewEncoder(out).Encode(orEmpty(list))
				}
				if len(list) == 0 {
					fmt.Fprintln(out, "No whole sweep is kept there.")
				}
				for _, r := range list {
					fmt.Fprintf(out, "%4d  %s  %s  revision %d  %s  %s\n", r.ID, r.StartedAt.Format("2006-01-02 15:04"),
						r.Target, r.Revision, r.State, countsInWords(r))
				}
				return nil
			})
		},
	}
	dataFlag(c, &data)
	formatFlag(c, &format)
	c.Flags().StringVar(&target, "target", "", "those of this target alone")
	return c
}

// countsInWords are the findings of a sweep by kind.
func countsInWords(r *events.Run) string {
	text := ""
	if r.Counts != nil {
		for _, k := range finding.Order {
			if n := r.Counts.Findings[k]; k.IsGap() && n > 0 {
				text += fmt.Sprintf("%d %s, ", n, k.Name())
			}
		}
	}
	if text == "" {
		return "no findings"
	}
	return text[:len(text)-2]
}

func showCommand() *cobra.Command {
	var data, format string
	c := &cobra.Command{
		Use:   "show NUMBER",
		Short: "Print what a sweep that is kept came to",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			n := past.Number(args[0])
			if n == 0 {
				return exit{exitWrong, fmt.Errorf("%q is no number of a sweep; millgate sweeps lists them", args[0])}
			}
			return looking(cmd, data, func(a *app.App) error {
				run, res, err := a.Sweeps.Result(cmd.Context(), n)
				switch {
				case err != nil:
					return exit{exitWrong, err}
				case run.EndedAt == nil:
					return exit{exitWrong, errors.New("it has not ended")}
				}
				out := cmd.OutOrStdout()
				if format == "json" {
					r, err := a.Reports.Of(cmd.Context(), n, report.Options{Most: 100, Brief: true})
					if err != nil {
						return exit{exitWrong, err}
					}
					return r.JSON(out)
				}
				printFindings(out, painter(out), run, res, false)
				return nil
			})
		},
	}
	dataFlag(c, &data)
	formatFlag(c, &format)
	return c
}

func reportCommand() *cobra.Command {
	var data, owner string
	var outs, words []string
	var values bool
	var most float64
	c := &cobra.Command{
		Use:   "report SWEEP|FILE -o FILE",
		Short: "Write a report of a sweep that is kept, or of a result file",
		Long: `Write a report of a sweep that is kept, or of a result file.

The form follows from the ending of each -o: ` + report.Endings + `.
Secrets are masked in each. Values of answers are shown as their type, unless --with-values
asks for them; a result file has only what it was written with.

Exit codes: 2 the arguments are wrong; 3 the report could not be written; else 0.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := readFailOn(words)
			if err != nil {
				return err
			}
			if len(outs) == 0 {
				return exit{exitWrong, errors.New("say where to with -o FILE; its ending is one of " + report.Endings)}
			}
			for _, path := range outs {
				if err := report.Writable(path); err != nil {
					return exit{exitWrong, err}
				}
			}
			n := past.Number(args[0])
			if n == 0 {
				r, err := report.Read(args[0])
				if err == nil && owner != "" {
					r, err = r.ForOwner(owner)
				}
				if err == nil && values {
					err = errors.New("--with-values needs a stored sweep; a file has what it was written with")
				}
				if err != nil {
					return exit{exitWrong, err}
				}
				return writeAll(r, outs)
			}
			return looking(cmd, data, func(a *app.App) error {
				r, err := a.Reports.Of(cmd.Context(), n, report.Options{Most: most, Stops: on.Stops, Values: values})
				if err == nil && owner != "" {
					r, err = r.ForOwner(owner)
				}
				if err != nil {
					return exit{exitWrong, err}
				}
				return writeAll(r, outs)
			})
		},
	}
	dataFlag(c, &data)
	failOnFlag(c, &words)
	c.Flags().StringArrayVarP(&outs, "output", "o", nil, "`FILE` to write; again for several")
	c.Flags().StringVar(&owner, "owner", "", "the findings and routes of this owner alone")
	c.Flags().BoolVar(&values, "with-values", false, "show values of answers, not only their types")
	c.Flags().Float64Var(&most, "most-unproven", coverage.DefaultMostUnproven, "say that the result is none to "+
		"build on "+
		"when more `PERCENT` of the planned crossings are unproven or unsent")
	return c
}

func writeAll(r *report.Report, paths []string) error {
	for _, path := range paths {
		if err := r.Save(path); err != nil {
			return exit{exitTarget, err}
		}
	}
	return nil
}
