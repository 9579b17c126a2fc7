package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/fault"
	"millgate/app/view"
)

func sendCommand() *cobra.Command {
	var x view.Sending
	var format, body, data string
	var headers []string
	c := &cobra.Command{
		Use:   "send FILE [\"METHOD /path\"] --target NAME",
		Short: "Send one request as somebody, and say what came of it and what was expected",
		Long: `Send one request as somebody, and say what came of it and what was expected.

The credential is obtained as in a sweep, and the target's rules hold. Secrets are
masked in what is printed. Nothing is kept, and what the request makes is not removed.

Exit codes: 2 the declaration or the arguments are wrong; 3 it was not sent, or not
answered; 1 it was answered otherwise than is declared; else 0.`,
		Args: cobra.RangeArgs(1, 2),
		Example: `  millgate send fernhollow.gate.yaml "GET /v1/frames/{frame_id}" --target stand-in --as imre --record f-501
  millgate send fernhollow.gate.yaml "GET /v1/frames" --target stand-in --as imre --broken expired
  millgate send fernhollow.gate.yaml --target stand-in --probe "crossing|GET /v1/frames|imre|access|sound||"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			if (len(args) == 2) == (x.Probe != "") {
				return exit{exitWrong, errors.New("say a request, as \"GET /v1/frames\", or --probe")}
			}
			if len(args) == 2 {
				x.Request = args[1]
			}
			for _, h := range headers {
				name, value, ok := strings.Cut(h, ":")
				if !ok || strings.TrimSpace(name) == "" {
					return exit{exitWrong, fmt.Errorf("--header is \"Name: value\", not %q", h)}
				}
				x.Headers = append(x.Headers, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
			}
			if cmd.Flags().Changed("body") {
				x.Body = &body
			}
			if _, _, err := readDeclaration(args[0]); err != nil {
				return err
			}
			a, err := app.Open(cmd.Context(), data, args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			defer a.Close() //nolint:errcheck // nothing was kept
			sent, err := a.View.Send(cmd.Context(), x)
			switch {
			case errors.Is(err, fault.ErrInput), errors.Is(err, fault.ErrNotFound), errors.Is(err, fault.ErrInvalid),
				errors.Is(err, view.ErrNoProbe):
				return exit{exitWrong, err}
			case err != nil:
				return exit{exitTarget, err}
			}
			return told(cmd.OutOrStdout(), format, sent)
		},
	}
	formatFlag(c, &format)
	c.Flags().StringVar(&x.Target, "target", "", "a target that the declaration names")
	c.Flags().StringVar(&x.As, "as", "", "an `IDENTITY`, or nobody, which is what is sent without it")
	c.Flags().StringVar(&x.Record, "record", "", "the `ID` of the record that is asked for")
	c.Flags().StringVar(&x.Broken, "broken", "", "a `WAY` in which the credential is broken, as the plan names them")
	c.Flags().StringVar(&x.Probe, "probe", "", "the `KEY` of a probe, as a sweep's JSON has it")
	c.Flags().StringArrayVar(&headers, "header", nil, "a header field, \"Name: value\", in the place of the request's")
	c.Flags().StringVar(&body, "body", "", "a body in the place of the request's")
	c.Flags().StringVar(&data, "data", "", "directory with what was kept and swept; without one, nothing is known")
	if err := c.MarkFlagRequired("target"); err != nil {
		panic(err) // the flag is defined above
	}
	return c
}

// told prints what was sent and what came of it.
func told(out io.Writer, format string, s view.Sent) error {
	x := s.Report.Exchange
	if format == "json" {
		m := explanation(s.Explained)
		m["exchange"], m["class"], m["agrees"] = x, s.Class, s.Agrees
		if err := writeJSON(out, m); err != nil {
			return err
		}
	} else {
		printSent(out, painter(out), s)
	}
	switch {
	case x.Status == 0:
		return exit{exitTarget, fmt.Errorf("no answer: %s", x.Error)}
	case !s.Agrees:
		return exit{exitFindings, nil}
	}
	return nil
}

func printSent(out io.Writer, p paint, s view.Sent) {
	x := s.Report.Exchange
	fmt.Fprintf(out, "%s %s\n", p.bold(x.Method), x.URL)
	for _, h := range x.Headers {
		fmt.Fprintf(out, "%s: %s\n", strings.ToLower(h[0]), h[1])
	}
	if x.Mark != "" {
		fmt.Fprintln(out, p.faint(strings.ToLower(x.Mark)))
	}
	if x.Body != "" {
		fmt.Fprintf(out, "\n%s\n", x.Body)
	}
	fmt.Fprintln(out)
	if x.Status != 0 {
		fmt.Fprintf(out, "%s %s\n", p.bold(fmt.Sprint(x.Status)), p.faint(fmt.Sprintf("%s, in %d ms", s.Class,
			x.Took.Milliseconds())))
	}
	for _, h := range x.Answer {
		fmt.Fprintf(out, "%s: %s\n", strings.ToLower(h[0]), h[1])
	}
	if x.Content != "" {
		fmt.Fprintf(out, "\n%s\n", strings.TrimRight(x.Content, "\n"))
	}
	if x.Truncated {
		fmt.Fprintln(out, p.faint("(the rest of the answer was not read)"))
	}
	fmt.Fprintln(out)
	if s.Explained.Route != "" {
		printExplanation(out, p, s.Explained)
	}
	switch {
	case x.Status == 0:
	case s.Agrees:
		fmt.Fprintln(out, "The answer is what is declared.")
	case s.Silent:
		fmt.Fprintln(out, p.warn("The answer says nothing about who may: "+string(s.Class)+"."))
	default:
		fmt.Fprintln(out, p.bad("The answer is not what is declared: "+string(s.Class)+"."))
	}
}
