package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/fault"
	"millgate/app/report"
	"millgate/app/shards"
)

func mergeCommand() *cobra.Command {
	var w sweeping
	var failOn []string
	var apart bool
	c := &cobra.Command{
		Use:   "merge FILE...",
		Short: "Join what several runners saw to one sweep",
		Long: `Join what several runners saw to one sweep.

The files are those that sweep --shard K/N wrote with --save, one of each shard. All is judged
anew, as if one runner had sent it; what one runner saw is held against what the others saw. A
shard without a file was not sent, and the sweep is told as one that did not end.

Exit codes are those of sweep: 2 the files or the arguments are wrong; else 3 the result is none
to build on; else 1 findings that --fail-on names, with --baseline only those that are new or
back since then; else 0.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := w.read(failOn, nil); err != nil {
				return err
			}
			files := make([]*shards.File, len(args))
			for i, path := range args {
				var err error
				if files[i], err = shards.Read(path); err != nil {
					return exit{exitWrong, err}
				}
			}
			dir := w.data
			if dir == "" {
				tmp, clear, err := scratch()
				if err != nil {
					return err
				}
				defer clear()
				dir = tmp
			}
			return looking(cmd, dir, func(a *app.App) error { return w.merge(cmd, a, files, apart) })
		},
	}
	w.gateFlags(c, &failOn)
	c.Flags().StringArrayVarP(&w.reports, "output", "o", nil, "`FILE` to write, in the form that its ending says ("+
		report.Endings+"); .json is what compare and report read; again for several")
	c.Flags().BoolVar(&apart, "apart", false, "each runner sent to a service of its own, so that no quota counted two "+
		"of them")
	c.Flags().StringVar(&w.data, "data", "", "directory to keep the sweep in; it is forgotten when empty")
	formatFlag(c, &w.format)
	return c
}

// scratch is a folder for what is not kept, and what clears it.
func scratch() (dir string, clear func(), err error) {
	if dir, err = os.MkdirTemp("", "millgate-"); err != nil {
		return "", nil, exit{exitTarget, fmt.Errorf("there is no place to merge: %w", err)}
	}
	return dir, func() { _ = os.RemoveAll(dir) }, nil // what stays is the system's to clear
}

// merge joins files, and says what they come to.
func (w sweeping) merge(cmd *cobra.Command, a *app.App, files []*shards.File, apart bool) error {
	if err := w.readBaseline(cmd.Context(), a); err != nil {
		return exit{exitWrong, fmt.Errorf("--baseline: %w", err)}
	}
	id, err := a.Shards.Merge(cmd.Context(), files, apart)
	if err != nil {
		code := exitWrong
		if errors.Is(err, fault.ErrNotStored) {
			code = exitTarget
		}
		return exit{code, err}
	}
	run, res, err := a.Sweeps.Result(cmd.Context(), id)
	if err != nil {
		return exit{exitTarget, err}
	}
	return w.say(cmd, a, run, res)
}
