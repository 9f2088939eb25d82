// Command erbario holds declared data models against live databases.
package main

import (
	"os"

	"erbario/internal/cli"
	"erbario/internal/engine"
)

func main() {
	code := cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr)
	engine.Exit()
	os.Exit(code)
}
