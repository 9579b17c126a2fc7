// Command millgate checks what a service does against what a declaration says
// it should.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"millgate/app"

	"github.com/spf13/cobra"
)

// Exit codes.
const (
	exitFine     = 0
	exitFindings = 1 // findings at or above --fail-on
	exitWrong    = 2 // the declaration or the arguments are wrong
	exitTarget   = 3 // what was asked for could not be checked: the result is none to build on
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
	c.SetOut(newScreen(os.Stdout))
	c.SetErr(newScreen(os.Stderr))
	c.AddCommand(serveCommand(), demoCommand(), reviewCommand(), explainCommand(), sendCommand(), reachCommand(),
		diffCommand(),
		formatCommand(), schemaCommand(), sweepCommand(), mergeCommand(), tokensCommand(), originsCommand(),
		standInCommand(),
		keepCommand(), pruneCommand(), sweepsCommand(), showCommand(), compareCommand(), reportCommand(),
		importCommand(),
		observeCommand(),
		versionCommand())
	return c
}

// graceful is how long a command may take to end after a signal.
const graceful = 950 * time.Millisecond

func main() {
	log.SetOutput(io.Discard) // net/http writes parts of answers there, which may hold secrets
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(app.GCPercent)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	go func() { // whatever it waits for: a pipe that nobody opens, a terminal
		<-ctx.Done()
		stop() // a second signal ends it at once
		time.Sleep(graceful)
		fmt.Fprintln(os.Stderr, "millgate: stopped before it could end by itself")
		os.Exit(exitTarget)
	}()
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
		fmt.Fprintln(newScreen(os.Stderr), "millgate: "+err.Error())
	}
	os.Exit(code) //nolint:gocritic // the signal handler ends with the process
}
