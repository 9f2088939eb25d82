// Command erbario holds declared data models against live databases.
package main

import (
	"os"

	"erbario/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
}
