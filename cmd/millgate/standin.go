package main

import (
	"fmt"
	"io"
	"os"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"millgate/app/workspace"
	"millgate/standin"
)

// withAddresses puts the addresses of a running stand-in into the example.
func withAddresses(text string, run *standin.Running) string {
	return strings.NewReplacer("http://127.0.0.1:7401", run.Base, "http://127.0.0.1:7402", run.IssuerURL,
		"http://127.0.0.1:7403", run.Mail,
		"http://127.0.0.1:7411", run.Direct).Replace(text)
}

func standInCommand() *cobra.Command {
	var listen, flaws string
	var secrets, list, gateway, control bool
	var nodes int
	var longest, idle time.Duration
	c := &cobra.Command{
		Use:   "stand-in",
		Short: "Run the simulated service of the demo",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if list {
				for _, w := range standin.What {
					fmt.Fprintf(out, "%-22s %s\n", w.Flaw, w.Text)
				}
				return nil
			}
			if secrets {
				all := standin.Secrets()
				names := make([]string, 0, len(all))
				for k := range all {
					names = append(names, k)
				}
				sort.Strings(names)
				for _, k := range names {
					fmt.Fprintf(out, "export %s='%s'\n", k, all[k])
				}
				return nil
			}
			fl, err := standin.ParseFlaws(flaws)
			if err != nil {
				return exit{exitWrong, err}
			}
			if nodes < 1 || nodes > 9 {
				return exit{exitWrong, fmt.Errorf("--nodes is between 1 and 9, not %d", nodes)}
			}
			run, err := standin.Listen(listen, standin.Options{Flaws: fl, Gateway: gateway, Quotas: true, Nodes: nodes,
				Longest: longest, ShortestIdle: idle, Control: control})
			if err != nil {
				return exit{exitWrong, err}
			}
			fmt.Fprintf(out, "The stand-in is at %s, its issuer at %s, its mailbox at %s\n", run.Base, run.IssuerURL,
				run.Mail)
			if gateway {
				fmt.Fprintf(out, "Without its gateway it is at %s\n", run.Direct)
			}
			if control {
				fmt.Fprintf(out, "POST %s/restart starts it again, POST %s/clock?advance=5m sets its clock ahead\n",
					run.Control, run.Control)
			}
			<-cmd.Context().Done()
			return run.Close()
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7401", "address of the API; the issuer takes the next port")
	c.Flags().StringVar(&flaws, "flaws", "none", "none, demo, or names separated by commas")
	c.Flags().BoolVar(&gateway, "gateway", true, "stand behind a gateway, and listen ten ports above without it")
	c.Flags().IntVar(&nodes, "nodes", 1, "how many nodes stand behind the address")
	c.Flags().DurationVar(&idle, "shortest-idle", 0, "after how long at most a session ends that nobody uses, like "+
		"2s; 0 "+
		"leaves 30m for the console and 12h for refresh tokens")
	c.Flags().DurationVar(&longest, "longest-window", 0, "how long the window of a quota is at most, like 2s; 0 "+
		"leaves them as they are")
	c.Flags().BoolVar(&control, "control", false, "listen twenty ports above for restarts and the clock, for tests")
	c.Flags().BoolVar(&secrets, "secrets", false, "print the accounts' secrets as shell exports, and end")
	c.Flags().BoolVar(&list, "list", false, "list the flaws, and end")
	return c
}

func keepCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use:   "keep NAME",
		Short: "Keep a secret, sealed, for kept:NAME in a declaration",
		Long: "Read a secret from the terminal or from standard input, and keep it sealed in the data directory, " +
			"where kept:NAME in a declaration finds it.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			value, err := secretFrom(cmd, args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			if value == "" {
				return exit{exitWrong, fmt.Errorf("no secret was given, so nothing was kept")}
			}
			if err := workspace.KeepSecret(cmd.Context(), data, args[0], value); err != nil {
				return exit{exitWrong, err}
			}
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", defaultData(), "directory of revisions and sweeps")
	return c
}

// mostSecret is how long a secret may be, in bytes.
const mostSecret = 1 << 20

// secretFrom reads a secret: a line on a terminal, up to the end of its block where
// it begins as PEM (RFC 7468); all of the standard input otherwise, without the line
// feed at its end.
func secretFrom(cmd *cobra.Command, name string) (string, error) {
	fd := int(os.Stdin.Fd())
	if !term.IsTerminal(fd) {
		b, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), mostSecret+1))
		if err == nil && len(b) > mostSecret {
			err = fmt.Errorf("the secret is longer than %d KiB", mostSecret>>10)
		}
		return strings.TrimSuffix(strings.TrimSuffix(string(b), "\n"), "\r"), err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "The secret for %s (it is not shown): ", name)
	var lines []string
	for {
		b, err := term.ReadPassword(fd)
		if err != nil {
			return "", err
		}
		lines = append(lines, string(b))
		if !strings.HasPrefix(lines[0], "-----BEGIN ") || strings.HasPrefix(string(b), "-----END ") {
			fmt.Fprintln(cmd.ErrOrStderr())
			return strings.Join(lines, "\n"), nil
		}
	}
}
