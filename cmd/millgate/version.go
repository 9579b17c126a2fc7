package main

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"
)

// version is set by a release: -ldflags "-X main.version=…".
var version = ""

// built says which version this is, from what commit, and what it was built with.
func built() string {
	v, commit, changed := version, "", ""
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision":
				commit = s.Value[:min(12, len(s.Value))]
			case s.Key == "vcs.modified" && s.Value == "true":
				changed = ", changed"
			}
		}
	}
	if v == "" {
		v = "unreleased"
	}
	parts := []string{runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH}
	if commit != "" {
		parts = append([]string{"commit " + commit + changed}, parts...)
	}
	return fmt.Sprintf("millgate %s (%s)", v, strings.Join(parts, ", "))
}

func versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is, from what commit, and what it was built with",
		Args:  cobra.NoArgs,
		Run:   func(cmd *cobra.Command, _ []string) { fmt.Fprintln(cmd.OutOrStdout(), built()) },
	}
}
