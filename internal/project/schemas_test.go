package project

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Models and shapes name schemas, for all engines or for one; fields of that name, and values of seeds, do not.
func TestSchemasIn(t *testing.T) {
	found := map[string]bool{}
	schemasIn(`# schema "no"
model Account
    schema "billing" # where it is
    schema text(20)
    "schema" text
shape Kept
	on postgres, sqlite:  schema 'Odd one'
seed small
    Account 3
        schema "public"
rows Account by name
    schema "none"
model Box
    note text check {note} <> 'schema "x"'
`, found)
	assert.Equal(t, []string{"Odd one", "billing"}, slices.Sorted(maps.Keys(found)))
}

// A file of SQL declares schemas by statements of their own.
func TestSchemasOfSQL(t *testing.T) {
	found := map[string]bool{}
	schemasOfSQL(`-- CREATE SCHEMA no;
CREATE SCHEMA Billing;
create schema if not exists "Odd ""one""" ;
CREATE VIEW v AS SELECT 'CREATE SCHEMA none;';
`, found)
	assert.Equal(t, []string{`Odd "one"`, "billing"}, slices.Sorted(maps.Keys(found)))
}
