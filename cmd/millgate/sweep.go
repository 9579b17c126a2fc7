package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"millgate/app"
	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/past"
	"millgate/app/planning"
	"millgate/app/report"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/review"
	"millgate/core/route"
)

// sweeping is what a sweep is asked for.
type sweeping struct {
	target, base, format, data string
	failOn                     finding.FailOn
	save, baseline, owner      string
	file                       *past.Swept // the baseline where it is one
	reports                    []string
	withValues, quiet          bool
	planOnly, keepGoing        bool
	part                       planning.Part
	mostUnproven               float64
	keep                       retention
}

func sweepCommand() *cobra.Command {
	var w sweeping
	var failOn, only []string
	var shard string
	c := &cobra.Command{
		Use:   "sweep FILE --target NAME",
		Short: "Probe a target and say where it parts from the declaration",
		Long: `Probe a target and say where it parts from the declaration.

Exit codes: 2 the declaration or the arguments are wrong; else 3 the result is none
to build on (a credential that a control needs could not be obtained, more than one
in ten routes have no admitted control, too much is unproven or unsent, it was
stopped, or it could not be stored); else 1 findings that --fail-on names, with
--baseline only those that are new or back since then; else 0.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := w.read(failOn, only); err != nil {
				return err
			}
			if err := w.readShard(shard, cmd.Flags().Changed("fail-on")); err != nil {
				return exit{exitWrong, err}
			}
			kept, err := w.keep.read()
			if err != nil {
				return err
			}
			if _, _, err := readDeclaration(args[0]); err != nil {
				return err
			}
			a, err := app.Open(cmd.Context(), w.data, args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			a.Sweeps.KeepGoing, a.Sweeps.Retention = w.keepGoing, kept
			err = runSweep(cmd, a, w)
			if cerr := a.Close(); err == nil && cerr != nil {
				err = exit{exitTarget, cerr}
			}
			return err
		},
	}
	c.Flags().StringVar(&w.target, "target", "", "a target that the declaration names")
	c.Flags().StringVar(&w.base, "base", "", "address in place of the target's base")
	w.gateFlags(c, &failOn)
	c.Flags().StringVar(&w.save, "save", "", "`FILE` to write the result to, as JSON, to compare with; with --shard, "+
		"what it saw, to merge")
	c.Flags().StringArrayVar(&w.reports, "report", nil, "`FILE` to write a report to, in the form that its ending "+
		"says ("+report.Endings+"); again for several")
	c.Flags().BoolVar(&w.keepGoing, "keep-going", false, "go on when the target begins to fail")
	c.Flags().StringVar(&w.data, "data", "", "directory to keep the sweep in; it is forgotten when empty")
	w.keep.flags(c)
	c.Flags().BoolVar(&w.part.Controls, "only-controls", false,
		"send logins and the requests that must be admitted, and say which are not fair yet")
	c.Flags().StringArrayVar(&only, "only", nil, "`SELECTOR` of routes to probe, as in the declaration; again for "+
		"several. What is left out is not checked")
	c.Flags().StringSliceVar(&w.part.Kinds, "kinds", nil, "kinds of probes to send, as --plan --format json counts "+
		"them")
	c.Flags().DurationVar(&w.part.Budget, "budget", 0, "send what is worth most in this `TIME`, as 5m; what it leaves "+
		"out counts as unsent")
	c.Flags().StringVar(&shard, "shard", "", "send a part of it, as `K/N` the second of five in 2/5, and keep it "+
		"with --save for merge; the last one fills quotas and ends sessions, so start it when the others have ended")
	c.Flags().BoolVar(&w.part.Shard.Alone, "alone", false, "no other shard is sent meanwhile: take the whole pace")
	c.Flags().BoolVar(&w.planOnly, "plan", false, "say what would be sent, and send nothing")
	formatFlag(c, &w.format)
	if err := c.MarkFlagRequired("target"); err != nil {
		panic(err) // the flag is defined above
	}
	return c
}

// gateFlags are those that say what a pipeline stops for, and what reports show.
func (w *sweeping) gateFlags(c *cobra.Command, failOn *[]string) {
	failOnFlag(c, failOn)
	c.Flags().StringVar(&w.baseline, "baseline", "", "`FILE` that --save wrote, or sweep:N of --data: exit with 1 "+
		"only for what is new or back since then")
	c.Flags().BoolVar(&w.quiet, "quiet-unless-changed", false, "print nothing where no finding came, went or was not "+
		"checked since the baseline, or else since the last whole sweep in --data")
	c.Flags().BoolVar(&w.withValues, "with-values", false, "show values of answers in reports, not only their types")
	c.Flags().StringVar(&w.owner, "owner", "", "reports of the findings and routes of this owner alone")
	c.Flags().Float64Var(&w.mostUnproven, "most-unproven", coverage.DefaultMostUnproven,
		"exit with 3 when more `PERCENT` of the planned crossings are unproven or unsent")
}

// readShard reads --shard. What all shards come to is asked of merge: a shard leaves with 1 only where --fail-on is
// given.
func (w *sweeping) readShard(text string, failOn bool) (err error) {
	alone := w.part.Shard.Alone
	switch {
	case text == "" && alone:
		return errors.New("--alone is for --shard K/N")
	case text == "":
		return nil
	}
	if w.part.Shard, err = planning.ParseShard(text); err != nil {
		return fmt.Errorf("--shard: %w", err)
	}
	w.part.Shard.Alone = alone
	switch {
	case w.save == "" && !w.planOnly:
		return errors.New("--shard needs --save FILE: millgate merge joins the files of all shards")
	case w.baseline != "" || w.quiet:
		return errors.New("a shard is no sweep to compare; give --baseline to millgate merge")
	case !failOn:
		w.failOn = finding.FailOn{}
	}
	return nil
}

// read reads what flags say; the error says which of them is wrong.
func (w *sweeping) read(failOn, only []string) (err error) {
	if err := checkFormat(w.format); err != nil {
		return err
	}
	if w.failOn, err = readFailOn(failOn); err != nil {
		return err
	}
	if !(w.mostUnproven >= 0 && w.mostUnproven <= 100) {
		return exit{exitWrong, fmt.Errorf("--most-unproven is a share between 0 and 100 percent, not %v",
			w.mostUnproven)}
	}
	for _, text := range only {
		s, err := route.Parse(text)
		if err != nil {
			return exit{exitWrong, fmt.Errorf("--only: %w", err)}
		}
		w.part.At = append(w.part.At, s)
	}
	for _, path := range w.reports {
		if err := report.Writable(path); err != nil {
			return exit{exitWrong, fmt.Errorf("--report: %w", err)}
		}
	}
	return nil
}

func runSweep(cmd *cobra.Command, a *app.App, w sweeping) error {
	out, errs := cmd.OutOrStdout(), cmd.ErrOrStderr()
	p := painter(out)
	if d, msgs := a.Workspace.Document(); declaration.Failed(msgs) {
		printMessages(errs, painter(errs), review.Review(d, msgs, time.Now()))
		return exit{exitWrong, errors.New("the declaration has errors; nothing was sent")}
	}
	if d, _ := a.Workspace.Document(); w.owner != "" {
		if err := report.Owned(d, w.owner); err != nil {
			return exit{exitWrong, fmt.Errorf("--owner: %w", err)}
		}
	}
	plan, err := a.Sweeps.PlanPart(w.target, w.part)
	if err != nil {
		return exit{exitWrong, err}
	}
	if w.planOnly {
		return printPlan(out, p, plan, w.format)
	}
	if err := w.readBaseline(cmd.Context(), a); err != nil {
		return exit{exitWrong, fmt.Errorf("--baseline: %w", err)}
	}
	a.Sweeps.Ask = asker(cmd)
	stream, end := a.Events.Listen(events.Sweeping, events.Waiting)
	defer func() { end() }()
	run, err := a.Sweeps.StartPart(cmd.Context(), w.target, w.base, w.part)
	if err != nil {
		code := exitWrong
		if errors.Is(err, fault.ErrUnreachable) || errors.Is(err, fault.ErrNotStored) {
			code = exitTarget
		}
		return exit{code, err}
	}
	if err := follow(cmd, a, run.ID, stream, func() <-chan events.Event {
		stream, end = a.Events.Listen(events.Sweeping, events.Waiting)
		return stream
	}); err != nil {
		return err
	}
	ended, res, err := a.Sweeps.Result(cmd.Context(), run.ID)
	if err != nil {
		return exit{exitTarget, err}
	}
	return w.say(cmd, a, ended, res)
}

// readBaseline reads the baseline, so that one that is none is told before anything is sent.
func (w *sweeping) readBaseline(ctx context.Context, a *app.App) error {
	n := past.Number(w.baseline)
	if w.baseline == "" {
		return nil
	}
	if n > 0 {
		_, err := past.Run(ctx, a.Sweeps, n)
		return err
	}
	s, err := past.Read(w.baseline)
	w.file = &s
	return err
}

// since compares a sweep with its baseline, or else with the last whole one that is kept; nil without either.
func (w sweeping) since(ctx context.Context, a *app.App, this past.Swept) (*past.Comparison, error) {
	if w.file != nil {
		c, err := past.Compare([]past.Swept{*w.file}, []past.Swept{this})
		return &c, err
	}
	return past.Since(ctx, a.Sweeps, past.Number(w.baseline), this)
}

// say prints what a sweep came to, keeps it where it is to be kept, and leaves with its exit code.
func (w sweeping) say(cmd *cobra.Command, a *app.App, ended *events.Run, res coverage.Result) error {
	out := cmd.OutOrStdout()
	p := painter(out)
	since, err := w.since(cmd.Context(), a, past.Of("this sweep", ended, res))
	switch {
	case errors.Is(err, fault.ErrInput):
		return exit{exitWrong, fmt.Errorf("--baseline: %w", err)}
	case err != nil:
		return exit{exitTarget, err}
	}
	stops := w.failOn.Stops
	if w.baseline != "" {
		ids := map[string]bool{}
		for _, l := range since.Stops(w.failOn) {
			ids[l.Finding.ID] = true
		}
		stops = func(f finding.Finding) bool { return ids[f.ID] }
	}
	full, err := a.Reports.Of(cmd.Context(), ended.ID, report.Options{Most: w.mostUnproven, Stops: stops, Since: since,
		Values: w.withValues, Brief: len(w.reports) == 0})
	if err != nil {
		return exit{exitTarget, err}
	}
	brief := full.Brief()
	code := res.Code(ended, w.mostUnproven, func(f finding.Finding) bool { return slices.Contains(brief.Stops, f.ID) })
	switch {
	case w.quiet && since != nil && !since.Differs():
	case w.format == "json":
		err = brief.JSON(out)
	default:
		printFindings(out, p, ended, res, w.part.Controls)
		if w.baseline != "" {
			fmt.Fprintln(out)
			sayComparison(out, p, *since)
		}
		fmt.Fprintln(out, summaryOf(ended, res, since, code))
		w.next(out, p, ended, res)
	}
	switch {
	case err != nil || w.save == "":
	case w.part.Shard.Of > 0:
		err = saveShard(cmd.Context(), a, ended.ID, w.part, w.save)
	default:
		err = brief.SaveAs(w.save, ".json")
	}
	if err == nil && w.owner != "" {
		if full, err = full.ForOwner(w.owner); err != nil {
			return exit{exitWrong, fmt.Errorf("--owner: %w", err)}
		}
	}
	if err != nil {
		return exit{exitTarget, err}
	}
	if err := writeAll(full, w.reports); err != nil {
		return err
	}
	switch code {
	case coverage.Doubts:
		lines := make([]string, len(brief.Doubts))
		for i, d := range brief.Doubts {
			lines[i] = string(d.Rule) + ": " + d.Text
		}
		return exit{exitTarget, fmt.Errorf("the result is none to build on:\n  %s", strings.Join(lines, "\n  "))}
	case coverage.Found:
		return exit{exitFindings, nil}
	}
	return nil
}

func saveShard(ctx context.Context, a *app.App, id uint, part planning.Part, path string) error {
	f, err := a.Shards.Export(ctx, id, part)
	if err != nil {
		return err
	}
	return report.Whole(path, f.Write)
}

// next says what can be done with what was found.
func (w sweeping) next(out io.Writer, p paint, ended *events.Run, res coverage.Result) {
	if w.part.Shard.Of > 0 {
		fmt.Fprintln(out, p.faint("next: millgate merge "+w.save+" …  with the files of the other shards"))
		return
	}
	if len(res.Findings) == 0 || w.part.Controls {
		return
	}
	if w.data == "" {
		fmt.Fprintln(out, p.faint("next: keep it with --data DIR and look at it with  millgate serve FILE --data "+
			"DIR,  or write a report with --report report.html"))
		return
	}
	fmt.Fprintln(out, p.faint(fmt.Sprintf("next: millgate report %d --data %s -o report.html", ended.ID, w.data)))
}

// toldEvery is how often a sweep says how far it is where nobody watches a terminal.
const toldEvery = 10 * time.Second

// follow tells how a sweep goes until it is over, and stops it when the command is interrupted.
// again begins the stream anew where it was too slow to listen.
func follow(cmd *cobra.Command, a *app.App, id uint, stream <-chan events.Event,
	again func() <-chan events.Event) error {
	errs := cmd.ErrOrStderr()
	live := bool(painter(errs))
	done := make(chan struct{})
	go func() { a.Sweeps.Wait(id); close(done) }()
	interrupted := cmd.Context().Done()
	ticker := time.NewTicker(toldEvery)
	defer ticker.Stop()
	for {
		select {
		case e, ok := <-stream:
			switch {
			case !ok:
				stream = again()
			case e.Type == events.Waiting && live:
				fmt.Fprintf(errs, "%s%s\n", clearLine, e.Text)
			case e.Type == events.Waiting:
				fmt.Fprintln(errs, e.Text)
			case live && e.Sweep != nil:
				fmt.Fprint(errs, clearLine, progress(e.Sweep))
			}
		case <-ticker.C:
			if r := a.Sweeps.Running(id); r != nil && !live {
				fmt.Fprintln(errs, progress(r))
			}
		case <-interrupted:
			interrupted = nil
			if err := a.Sweeps.Stop(id); err != nil && !errors.Is(err, fault.ErrNotFound) {
				return exit{exitTarget, err}
			}
		case <-done:
			if live {
				fmt.Fprint(errs, clearLine)
			}
			return nil
		}
	}
}

func progress(r *events.Run) string {
	return fmt.Sprintf("%d of %d probes, %.0f per s, %.0f s left", r.Done, r.Planned, r.Pace, r.Left)
}

// asker asks on a terminal whether a sweep goes on; nil where nobody can answer.
func asker(cmd *cobra.Command) func(string) bool {
	errs := cmd.ErrOrStderr()
	if s, ok := errs.(*screen); !ok || !s.terminal || !term.IsTerminal(int(os.Stdin.Fd())) {
		return nil
	}
	return func(question string) bool {
		fmt.Fprintf(errs, "%s%s [y/N] ", clearLine, question)
		answer := make(chan bool, 1)
		go func() { // reading from a terminal is not interrupted
			line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
			answer <- strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y")
		}()
		select {
		case yes := <-answer:
			return yes
		case <-cmd.Context().Done():
			return false
		}
	}
}
