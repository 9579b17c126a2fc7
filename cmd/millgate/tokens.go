package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/events"
	"millgate/app/tokens"
	"millgate/core/finding"
	"millgate/core/token"
)

func tokensCommand() *cobra.Command {
	var format, failOn, gate, target, words string
	c := &cobra.Command{
		Use:   "tokens FILE",
		Short: "Judge issued tokens: one, or a file of them",
		Long: `Judge the tokens of a file: one on each line, JSON lines, a HAR archive or a log.
- reads from the standard input, as it comes. With --gate they are held against a
declaration, with --target its key set is fetched to verify them. With --format json each
token is told on a line of its own as soon as it was judged, and the whole on the last one.`,
		Example: `  millgate tokens issued.txt --gate fernhollow.gate.yaml
  pbpaste | millgate tokens - --gate fernhollow.gate.yaml --target staging --format json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			if failOn != "" && !finding.Severity(failOn).AtLeast(finding.Low) {
				return exit{exitWrong, fmt.Errorf("--fail-on is low, medium, high or critical, not %q", failOn)}
			}
			if target != "" && gate == "" {
				return exit{exitWrong, fmt.Errorf("--target needs --gate, the declaration that has the target")}
			}
			in := cmd.InOrStdin()
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return exit{exitWrong, err}
				}
				defer f.Close() //nolint:errcheck // it is only read
				in = f
			}
			out := cmd.OutOrStdout()
			watch := tokens.Watch{Progress: progressTo(cmd.ErrOrStderr())}
			lines := json.NewEncoder(out)
			lines.SetEscapeHTML(false)
			if format == "json" {
				watch.Each = func(t token.Told) error { return lines.Encode(tokenLine{"token", t}) }
			}
			r, err := audit(cmd, gate, target, in, watch)
			if err != nil {
				return err
			}
			if r.Tokens == 0 {
				return exit{exitWrong, fmt.Errorf("%s holds no token: nothing was checked", args[0])}
			}
			if words != "" {
				if err := guess(cmd, args[0], words, &r); err != nil {
					return err
				}
			}
			if format == "json" {
				err = lines.Encode(summaryLine{"summary", r})
			} else {
				printAudit(out, painter(out), r)
			}
			if err == nil && failOn != "" {
				for _, t := range r.Tallies {
					if t.Severity.AtLeast(finding.Severity(failOn)) {
						return exit{exitFindings, nil}
					}
				}
			}
			return err
		},
	}
	formatFlag(c, &format)
	c.Flags().StringVar(&gate, "gate", "", "the declaration that they are held against")
	c.Flags().StringVar(&target, "target", "", "fetch key sets from this target of the declaration")
	c.Flags().StringVar(&words, "words", "", "a list of words to guess HMAC secrets among, one on a line")
	c.Flags().StringVar(&failOn, "fail-on", "", "exit with 1 when a judgement is that grave: low, medium, high, "+
		"critical")
	return c
}

// The lines of --format json, by their type.
type (
	tokenLine struct {
		Type string `json:"type"`
		token.Told
	}
	summaryLine struct {
		Type string `json:"type"`
		token.Audited
	}
)

func audit(cmd *cobra.Command, gate, target string, in io.Reader, watch tokens.Watch) (token.Audited, error) {
	if gate == "" {
		r, err := tokens.AuditStream(cmd.Context(), token.Context{Now: time.Now(),
			NoKeys: "no declaration was given"}, in, watch)
		return r, stopped(err)
	}
	if _, err := meant(cmd, gate); err != nil {
		return token.Audited{}, err
	}
	a, err := app.Open(cmd.Context(), "", gate)
	if err != nil {
		return token.Audited{}, exit{exitWrong, err}
	}
	defer a.Close() //nolint:errcheck // it is in memory
	r, err := a.Tokens.AuditTokens(cmd.Context(), target, target == "", in, watch)
	return r, stopped(err)
}

func stopped(err error) error {
	if err != nil {
		return exit{exitWrong, fmt.Errorf("the tokens were not all read: %w", err)}
	}
	return nil
}

// progressTo shows how far it is: always on a terminal, elsewhere every ten seconds.
func progressTo(w io.Writer) func(events.AuditProgress) {
	const every = 10 * time.Second
	before, after := clearLine, " "
	if s, ok := w.(*screen); !ok || !s.terminal {
		before, after = "", "\n"
	}
	told := time.Now()
	return func(p events.AuditProgress) {
		if before == "" && time.Since(told) < every {
			return
		}
		told = time.Now()
		fmt.Fprintf(w, "%s%d tokens, %d MB read%s", before, p.Tokens, p.Bytes>>20, after)
	}
}

// guess tries the words on the first token of a file that has an HMAC
// signature.
func guess(cmd *cobra.Command, file, words string, r *token.Audited) error {
	if file == "-" {
		return exit{exitWrong, fmt.Errorf("--words needs a file of tokens, which is read a second time")}
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return exit{exitWrong, err}
	}
	for _, w := range strings.Fields(string(text)) {
		if !token.Guessable(token.Decode(w)) {
			continue
		}
		list, err := os.Open(words)
		if err != nil {
			return exit{exitWrong, err}
		}
		defer list.Close() //nolint:errcheck // it is only read
		found, ok, err := tokens.GuessSecret(cmd.Context(), w, list, nil)
		if err != nil {
			return exit{exitWrong, err}
		}
		if ok {
			r.Tallies = append([]token.Tally{{Judgement: token.Guessed(found), Count: 1}}, r.Tallies...)
		}
		return nil
	}
	return exit{exitWrong, fmt.Errorf("no token of %s is signed with a secret, so there is nothing to guess", file)}
}

func printAudit(w io.Writer, p paint, r token.Audited) {
	fmt.Fprintf(w, "%d tokens, %d different, %d of them sound", r.Tokens, r.Distinct, r.Sound)
	if r.Unsure > 0 {
		fmt.Fprintf(w, ", %s", p.warn(fmt.Sprintf("%d of which nobody can tell", r.Unsure)))
	}
	if r.Endless > 0 {
		fmt.Fprintf(w, ", %s", p.bad(fmt.Sprintf("%d without an end", r.Endless)))
	}
	fmt.Fprintln(w)
	for _, g := range []string{"issuer", "kind", "algorithm", "scheme"} {
		var parts []string
		for i, c := range r.Groups[g] {
			if i == 5 {
				parts = append(parts, fmt.Sprintf("and %d more", len(r.Groups[g])-5))
				break
			}
			parts = append(parts, fmt.Sprintf("%s %d", c.Name, c.Count))
		}
		if len(parts) > 0 {
			fmt.Fprintf(w, "%-10s %s\n", g, strings.Join(parts, ", "))
		}
	}
	for _, t := range r.Tallies {
		level := p.warn(string(t.Severity))
		if t.Severity.AtLeast(finding.High) {
			level = p.bad(string(t.Severity))
		}
		fmt.Fprintf(w, "\n%s %d× %s [%s]\n    %s\n", level, t.Count, t.Text, t.ID, p.faint(t.Why+" ("+t.Standard+")"))
		for _, e := range t.Examples {
			fmt.Fprintf(w, "    line %d, %s %s: %s\n", e.Line, e.Fingerprint, e.Subject, e.Text)
		}
	}
	if len(r.Powerful) > 0 {
		fmt.Fprintln(w, "\nThey open most:")
		for i, s := range r.Powerful {
			if i == 5 {
				break
			}
			beyond := ""
			if s.Beyond > 0 {
				beyond = p.bad(fmt.Sprintf(", %d of them not granted to its holder", s.Beyond))
			}
			fmt.Fprintf(w, "    line %d, %s %s: %d routes, %d that change something%s\n", s.Line, s.Fingerprint,
				s.Subject, s.Opens, s.Unsafe, beyond)
		}
	}
}
