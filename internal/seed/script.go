package seed

// This file writes the rows of a seed as a script for the database's own client.
// The run is the same as on a database; what it would change is written instead.

import (
	"context"
	"fmt"

	"erbario/internal/declare"
	"erbario/internal/script"
)

// Script writes the script of a seed against what is in the database that c reads.
func Script(ctx context.Context, c *script.Conn, e Engine, d *declare.Declared, s *declare.Seed,
	o RunOptions) error {
	c.Lines(fmt.Sprintf("-- The rows of the seed %s, random %d, for %s.", s.Name, o.Random, e.Name()))
	c.Open()
	if _, err := Run(ctx, c, e, d, s, o); err != nil {
		return err
	}
	return c.End()
}
