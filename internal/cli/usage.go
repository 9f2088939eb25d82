package cli

// This file says in our words what the library for arguments finds wrong with them.

import (
	"regexp"
	"sync"

	"github.com/urfave/cli/v3"
)

// The forms in which the library reports, compiled when something is wrong.
var (
	usageUnknown = sync.OnceValue(
		func() *regexp.Regexp { return regexp.MustCompile(`^flag provided but not defined: -+(\S+)`) },
	)
	usageMissing = sync.OnceValue(
		func() *regexp.Regexp { return regexp.MustCompile(`^flag needs an argument: -+(\S+)`) },
	)
	usageShell   = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^No help topic for '(.*)'$`) })
	usageInvalid = sync.OnceValue(
		func() *regexp.Regexp { return regexp.MustCompile(`(?s)^invalid value "(.*)" for flag -+(\S+): `) },
	)
)

// usageWords is what is wrong with the arguments of a command.
func usageWords(c *cli.Command, err error) string {
	text := err.Error()
	if g := usageUnknown().FindStringSubmatch(text); g != nil {
		var known []string
		for _, f := range append(c.Flags, c.Root().Flags...) {
			known = append(known, f.Names()...)
		}
		return "there is no flag --" + g[1] + meant(g[1], known)
	}
	if g := usageMissing().FindStringSubmatch(text); g != nil {
		return "--" + g[1] + " needs a value"
	}
	if g := usageInvalid().FindStringSubmatch(text); g != nil {
		want := "another value"
		for _, f := range append(c.Flags, c.Root().Flags...) {
			if len(f.Names()) == 0 || f.Names()[0] != g[2] {
				continue
			}
			switch f.(type) {
			case *cli.IntFlag, *cli.Int64Flag, *cli.UintFlag, *cli.Uint64Flag:
				want = "a whole number"
			case *cli.DurationFlag:
				want = "a time such as 30s, 10m or 1h"
			case *cli.BoolFlag:
				want = "true or false"
			}
		}
		return "--" + g[2] + ": write " + want + ", not " + clean(g[1])
	}
	return text
}
