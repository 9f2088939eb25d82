// Command erbario holds declared data models against live databases.
package main

import (
	"os"

	"erbario/internal/cli"
	"erbario/internal/engine"
	"erbario/internal/engines"
)

func main() {
	code := cli.Main(engines.All(), os.Args, os.Stdin, os.Stdout, os.Stderr)
	engine.Exit()
	os.Exit(code)
}
