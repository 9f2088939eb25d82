package migration_test

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// A migration with one step, as its file has it behind the head.
func ExampleWrite() {
	m := &migration.Migration{ID: "20261129T093000-labels", Engine: "sqlite", Steps: []migration.Step{{
		Title:     "add boxes.label",
		Note:      "keeps every row",
		UndoLoses: []engine.Loss{{Table: "boxes", Column: "label"}},
		Apply:     []migration.Statement{{SQL: "ALTER TABLE boxes ADD COLUMN label TEXT"}},
		Undo:      []migration.Statement{{SQL: "ALTER TABLE boxes DROP COLUMN label"}},
	}}}
	_, steps, _ := strings.Cut(migration.Write(m), "\n\n")
	fmt.Println(steps)
	// Output:
	// -- : step 1  add boxes.label  (keeps every row)
	// -- : undo loses boxes.label, kept
	// -- : apply
	// ALTER TABLE boxes ADD COLUMN label TEXT;
	// -- : undo
	// ALTER TABLE boxes DROP COLUMN label;
}
