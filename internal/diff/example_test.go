package diff_test

import (
	"fmt"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/sqlschema"
)

// Two versions of a model, as SQLite keeps them.
func Example() {
	e, _ := engines.All().ByName("sqlite")
	stored := func(model string) *sqlschema.Schema {
		f, _ := lang.Parse("models/box.erbario", model)
		d, _ := declare.Resolve([]*lang.File{f}, declare.Rules{}, e.Name())
		s, _ := e.DDL().Lower(d.Schema)
		return s
	}
	before := stored("model Box\n    label text(40)\n    size integer\n")
	after := stored("model Box\n    label text(40) unique\n    shelf text(10) optional\n")
	for _, c := range diff.Told(diff.Schemas(before, after)) {
		fmt.Println(c.Kind.Sign(), c.Target()+":", c.What)
	}
	// Output:
	// + boxes.shelf: VARCHAR(10)
	// - boxes.size: INTEGER
	// + boxes.boxes_label_key: unique label
}
