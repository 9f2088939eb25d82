package script_test

import (
	"context"
	"os"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/script"
)

// What is executed is written, and arguments take their places whatever is in them.
func Example() {
	e, err := engines.All().ByName("sqlite")
	if err != nil {
		panic(err)
	}
	ctx := context.Background()
	c := script.New(os.Stdout, nil, e) // nothing is read
	_ = c.Begin(ctx, 0)
	_ = c.Exec(ctx, "INSERT INTO boxes (label, number) VALUES (?, ?)", "whose is it?", 7)
	_ = c.Step(ctx, "DROP TABLE labels")
	c.Require(engine.Requirement{Sentence: "{n} boxes are empty", Query: "SELECT 1 FROM boxes WHERE label = ''"})
	_ = c.Commit(ctx)
	// Output:
	// BEGIN IMMEDIATE;
	// INSERT INTO boxes (label, number) VALUES ('whose is it?', 7);
	// DROP TABLE labels;
	// CREATE TEMP TABLE IF NOT EXISTS erbario_must (what TEXT, held INTEGER CONSTRAINT "rows block this change" CHECK (held));
	// INSERT INTO temp.erbario_must SELECT '{n} boxes are empty', NOT EXISTS (
	// SELECT 1 FROM boxes WHERE label = ''
	// );
	// COMMIT;
}
