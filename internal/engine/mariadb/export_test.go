package mariadb

import (
	"context"

	"erbario/internal/engine"
)

// What tests against a server use, which stand outside of the package: they share the
// servers of all engines.
var (
	Quote       = quote
	Literal     = literal
	CreateTable = createTable
)

// Name is the name of the database.
func (d *Database) Name() string { return d.name }

// InsertAll loads rows by INSERT.
func InsertAll(ctx context.Context, d *Database, r engine.TableRows) error {
	return d.insertAll(ctx, r)
}
