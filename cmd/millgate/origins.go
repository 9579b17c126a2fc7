package main

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/view"
)

func originsCommand() *cobra.Command {
	var format, gate string
	c := &cobra.Command{
		Use:   "origins FILE",
		Short: "Say what pages could do by the answers that a browser recorded",
		Long: `Run the requests of pages in a HAR archive through the browser's cross-origin
protocol (Fetch standard), and hold them against a declaration with --gate.
- reads from the standard input. Nothing is sent. It ends with 1 when a page could
do more or less than declared.`,
		Example: "  millgate origins recording.har --gate fernhollow.gate.yaml",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			text, err := readAll(cmd, args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			if gate != "" {
				if _, err := meant(cmd, gate); err != nil {
					return err
				}
			}
			a, err := app.Open(cmd.Context(), "", gate)
			if err != nil {
				return exit{exitWrong, err}
			}
			defer a.Close() //nolint:errcheck // it is in memory
			list, problems, err := a.View.JudgeArchive(text)
			if err != nil {
				return exit{exitWrong, err}
			}
			for _, p := range problems {
				fmt.Fprintf(cmd.ErrOrStderr(), "line %d: %s\n", p.Line, p.Text)
			}
			parts := 0
			for _, j := range list {
				if j.Want != nil && !j.Outcome.Unknown && *j.Want != j.Does {
					parts++
				}
			}
			if format == "json" {
				err = writeJSON(cmd.OutOrStdout(), list)
			} else {
				printPages(cmd.OutOrStdout(), list)
			}
			if err == nil && parts > 0 {
				return exit{exitFindings, nil}
			}
			return err
		},
	}
	formatFlag(c, &format)
	c.Flags().StringVar(&gate, "gate", "", "the declaration that they are held against")
	return c
}

func readAll(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(cmd.InOrStdin())
	}
	return os.ReadFile(name) //nolint:gosec // the file that the person names
}

func printPages(w io.Writer, list []view.JudgedPage) {
	if len(list) == 0 {
		fmt.Fprintln(w, "No request comes from a page of another origin.")
	}
	for _, j := range list {
		q := j.Recorded.Request
		does := j.Does.String()
		if j.Outcome.Unknown {
			does = "not known, an answer is missing"
		}
		fmt.Fprintf(w, "%s: %s %s\n  can: %s", q.Page, q.Method, q.URL, does)
		switch {
		case j.Want != nil:
			fmt.Fprintf(w, "; declared: %s", *j.Want)
		case j.Route == "":
			fmt.Fprint(w, "; not in the inventory")
		}
		fmt.Fprintln(w)
		if b := j.Outcome.Blocked(); b != nil {
			fmt.Fprintf(w, "  stopped at %s: %s\n", b.Name, b.Text)
		}
		if j.Browser != "" {
			fmt.Fprintf(w, "  %s\n", j.Browser)
		}
		for _, s := range j.Said {
			fmt.Fprintf(w, "  %s: %s\n", s.Sort, s.Text)
		}
	}
}
