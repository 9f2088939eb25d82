package lang_test

import (
	"fmt"

	"erbario/internal/lang"
)

// A mistake says where it is, and what to write.
func ExampleParse() {
	_, mistakes := lang.Parse("models/box.erbario", "model Box\n    label txt(40)\n")
	for _, m := range mistakes {
		fmt.Printf("%s:%d: %s; %s\n", m.Pos.Path, m.Pos.Line, m.Message, m.Hint)
	}
	// Output:
	// models/box.erbario:2: no type txt; did you mean text?
}
