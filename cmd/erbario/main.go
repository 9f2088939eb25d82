// Command erbario holds declared data models against live databases.
package main

import (
	"os"

	"erbario/internal/cli"
	"erbario/internal/engines"
)

func main() {
	known := engines.All()
	code := cli.Main(known, os.Args, os.Stdin, os.Stdout, os.Stderr)
	known.Close()
	os.Exit(code)
}
