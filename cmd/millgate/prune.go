package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/sweep"
	"millgate/core/declaration"
)

// retention are the flags that say which exchanges stay.
type retention struct {
	sweeps int
	text   string
}

func (r *retention) flags(c *cobra.Command) {
	c.Flags().IntVar(&r.sweeps, "keep-sweeps", 0, "keep exchanges of the newest `NUMBER` sweeps of each target; 0 "+
		"keeps all")
	c.Flags().StringVar(&r.text, "keep-for", "", "keep exchanges for so long, as in 90d; empty keeps all")
}

func (r *retention) read() (out sweep.Retention, err error) {
	if r.sweeps < 0 {
		return out, exit{exitWrong, fmt.Errorf("--keep-sweeps is a number of sweeps, not %d", r.sweeps)}
	}
	out.Sweeps = r.sweeps
	if r.text == "" {
		return out, nil
	}
	if out.For, err = declaration.ParseDuration(r.text); err != nil || out.For <= 0 {
		return out, exit{exitWrong, fmt.Errorf("--keep-for is a duration such as 90d or 12h, not %q", r.text)}
	}
	return out, nil
}

func pruneCommand() *cobra.Command {
	var keep retention
	var data string
	c := &cobra.Command{
		Use:   "prune",
		Short: "Take exchanges of earlier sweeps away",
		Long: `Take exchanges of earlier sweeps away.

An exchange goes when --keep-sweeps or --keep-for says so. What the board shows of a
target stays, whatever its age: the latest whole sweep and all that was sent again since.
The findings of every sweep, and what it left behind, stay too.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := keep.read()
			if err != nil {
				return err
			}
			if r == (sweep.Retention{}) {
				return exit{exitWrong, fmt.Errorf("say what to keep, with --keep-sweeps or --keep-for; without them " +
					"everything stays")}
			}
			done, err := app.PruneData(cmd.Context(), data, r)
			if err != nil {
				return exit{exitWrong, err}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s of %s were taken away.\n", count(int(done.Exchanges), "exchange"),
				count(done.Sweeps, "sweep"))
			return nil
		},
	}
	keep.flags(c)
	c.Flags().StringVar(&data, "data", defaultData(), "directory of revisions and sweeps")
	return c
}
