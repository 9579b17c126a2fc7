// Command millgate checks what a service does against what a declaration says
// it should.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
)

// Exit codes.
const (
	exitFine     = 0
	exitFindings = 1 // findings at or above --fail-on
	exitWrong    = 2 // the declaration or the arguments are wrong
	exitTarget   = 3 // the target could not be checked
)

// exit carries an exit code with what to say.
type exit struct {
	code int
	err  error
}

func (e exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e exit) Unwrap() error { return e.err }

func root() *cobra.Command {
	c := &cobra.Command{
		Use:           "millgate",
		Short:         "Declare who may call what, probe a service, see where the two part",
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	c.AddCommand(serveCommand(), demoCommand(), reviewCommand(), reachCommand(), diffCommand(), formatCommand(), schemaCommand(), sweepCommand(), tokensCommand(), originsCommand(), standInCommand(), keepCommand())
	return c
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root().ExecuteContext(ctx)
	if err == nil {
		return
	}
	code := exitWrong
	var e exit
	if errors.As(err, &e) {
		code = e.code
	}
	if err.Error() != "" {
		fmt.Fprintln(os.Stderr, "millgate: "+err.Error())
	}
	os.Exit(code) //nolint:gocritic // the signal handler ends with the process
}
