// Package engines is the list of the engines that the program knows. Whoever adds an engine
// adds a line here:
//
//	e, err := engines.All().ForURL("sqlite:herbarium.db")
package engines

import (
	"erbario/internal/engine"
	"erbario/internal/engine/mariadb"
	"erbario/internal/engine/postgres"
	"erbario/internal/engine/sqlite"
)

// All are the engines, the embedded one first.
func All() engine.Registry {
	return engine.Registry{sqlite.Engine{}, postgres.Engine{}, mariadb.Engine{}}
}
