package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/lmittmann/tint"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"millgate/app"
	"millgate/app/fault"
	"millgate/app/sweep"
	"millgate/examples"
	"millgate/server"
	"millgate/standin"
)

func logger() *slog.Logger {
	return slog.New(tint.NewTextHandler(os.Stderr, &tint.Options{TimeFormat: time.TimeOnly,
		NoColor: !term.IsTerminal(int(os.Stderr.Fd()))}))
}

// defaultData is where a workspace is kept when no --data is given.
func defaultData() string {
	if d, err := os.UserConfigDir(); err == nil {
		return filepath.Join(d, "millgate")
	}
	return "millgate-data"
}

func serveCommand() *cobra.Command {
	var listen, data string
	var begin bool
	var keep retention
	c := &cobra.Command{
		Use:   "serve [FILE]",
		Short: "Serve the interface for a declaration",
		Long: "Serve the interface for the declaration in FILE; without one, for the declaration in the data " +
			"directory.",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			file := ""
			if len(args) == 1 {
				file = args[0]
				if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) && !begin {
					return exit{exitWrong, fmt.Errorf("there is no file %s; with --new it is begun", file)}
				}
			}
			kept, err := keep.read()
			if err != nil {
				return err
			}
			return serve(cmd.Context(), cmd, listen, data, file, &demo{data: data}, kept)
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7400", "address of the interface; loopback only")
	c.Flags().StringVar(&data, "data", defaultData(), "directory of revisions and sweeps")
	c.Flags().BoolVar(&begin, "new", false, "begin FILE where there is none")
	keep.flags(c)
	return c
}

func demoCommand() *cobra.Command {
	var listen, stand, data, flaws string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Serve the interface with demo data and the stand-in",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if data == "" {
				dir, err := os.MkdirTemp("", "millgate-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(dir) //nolint:errcheck // a temporary folder
				data = dir
			}
			d := &demo{data: data, listen: stand, flaws: flaws}
			file, err := d.start()
			if err != nil {
				return exit{exitWrong, err}
			}
			defer d.stop()
			return serve(cmd.Context(), cmd, listen, data, file, d, sweep.Retention{})
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7400", "address of the interface; loopback only")
	c.Flags().StringVar(&stand, "stand-in", "127.0.0.1:7401", "address of the stand-in; its issuer takes the next port")
	c.Flags().StringVar(&data, "data", "", "directory of revisions and sweeps; a temporary one when empty")
	c.Flags().StringVar(&flaws, "flaws", "demo", "flaws of the stand-in: none, demo, or names separated by commas")
	return c
}

// demo writes the example declaration and runs the stand-in that it names.
type demo struct {
	data, listen, flaws string
	mu                  sync.Mutex
	running             *standin.Running
	file                string
}

func (d *demo) start() (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.running != nil {
		return d.file, nil
	}
	if d.listen == "" {
		d.listen = "127.0.0.1:7401"
	}
	if d.flaws == "" {
		d.flaws = "demo"
	}
	list, err := standin.ParseFlaws(d.flaws)
	if err != nil {
		return "", err
	}
	run, err := standin.Listen(d.listen, standin.Options{Flaws: list, Gateway: true, Quotas: true, Nodes: 3})
	if err != nil {
		return "", fmt.Errorf("%w; choose another with --stand-in", err)
	}
	// The example looks for its secrets in the environment.
	for k, v := range standin.Secrets() {
		if _, set := os.LookupEnv(k); !set {
			if err := os.Setenv(k, v); err != nil {
				return "", errors.Join(err, run.Close())
			}
		}
	}
	dir := filepath.Join(d.data, "fernhollow")
	if err := writeExample(dir, run); err != nil {
		return "", errors.Join(err, run.Close())
	}
	d.running, d.file = run, filepath.Join(dir, "fernhollow.gate.yaml")
	return d.file, nil
}

func (d *demo) stop() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.running != nil {
		_ = d.running.Close() // the process ends
	}
}

// writeExample puts the example files into a folder, with the addresses of the
// stand-in; files that are there already are the user's.
func writeExample(dir string, run *standin.Running) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	return fs.WalkDir(examples.Fernhollow, "fernhollow", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := examples.Fernhollow.ReadFile(p)
		if err != nil {
			return err
		}
		f, err := os.OpenFile(filepath.Join(dir, filepath.Base(p)), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, os.ErrExist) {
			return nil
		}
		if err != nil {
			return err
		}
		_, err = f.WriteString(withAddresses(string(b), run))
		return errors.Join(err, f.Close())
	})
}

func serve(ctx context.Context, cmd *cobra.Command, listen, data, file string, d *demo, keep sweep.Retention) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return exit{exitWrong, fmt.Errorf("--listen needs HOST:PORT: %w", err)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return exit{exitWrong, fmt.Errorf("--listen %s is not a loopback address; the interface has no sign-in and "+
			"must not be reachable from elsewhere", listen)}
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", listen)
	if err != nil {
		return exit{exitWrong, fmt.Errorf("the interface cannot listen on %s: %w; choose another with --listen", listen,
			err)}
	}
	a, err := app.Open(ctx, data, file) //nolint:contextcheck // what it does now ends before it returns
	if err != nil {
		return exit{exitWrong, errors.Join(err, l.Close())}
	}
	a.Sweeps.Retention = keep
	log := logger()
	if why := a.ReadOnly(); why != "" {
		log.WarnContext(ctx, "nothing can be kept, what is there can be looked at", "why", why)
	} else if _, err := a.Sweeps.Prune(ctx); err != nil {
		log.WarnContext(ctx, "exchanges of earlier sweeps were not pruned", "why", err)
	}
	go a.Past.Watch(ctx, a.Events)
	open := func() error { //nolint:contextcheck // the demo lasts longer than the question
		f, err := d.start() //nolint:contextcheck // the same
		if err != nil {
			return fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
		return a.OpenFile(ctx, f)
	}
	srv := &http.Server{Handler: server.New(a, open, log).Handler(), ReadHeaderTimeout: 10 * time.Second}
	fmt.Fprintf(cmd.OutOrStdout(), "Mill Gate is at http://%s\n", l.Addr())
	if d.running != nil {
		fmt.Fprintf(cmd.OutOrStdout(), "The stand-in is at %s, its issuer at %s, its mailbox at %s\n", d.running.Base,
			d.running.IssuerURL, d.running.Mail)
	}
	done := make(chan error, 1)
	go func() { done <- srv.Serve(l) }() //nolint:contextcheck // Shutdown ends it
	select {
	case err = <-done:
	case <-ctx.Done():
		sctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 150*time.Millisecond)
		defer cancel()
		if err = srv.Shutdown(sctx); errors.Is(err, context.DeadlineExceeded) {
			err = srv.Close() // event streams stay open; they are cut
		}
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return errors.Join(err, a.Close())
}
