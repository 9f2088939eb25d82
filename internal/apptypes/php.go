package apptypes

// This file writes PHP: readonly classes that read a row and make one, and enumerations for choices.

import (
	"fmt"
	"slices"
	"strings"
)

func phpName(column string) string {
	if plain(column) {
		return column
	}
	return snake(column)
}

// phpType is the type of a field's values, without null.
func (w *writer) phpType(f *Field) string {
	if f.Array() {
		return "array"
	}
	switch f.stored() {
	case asInt16, asInt32, asInt64, asUint16, asUint32:
		return "int"
	case asFloat32, asFloat64:
		return "float"
	case asBoolean:
		return "bool"
	case asDate, asTimestamp, asDatetime:
		return `\DateTimeImmutable`
	case asChoice:
		return w.choices[f.Choice]
	}
	return "string"
}

func phpText(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(s) + "'"
}

func php(w *writer) []File {
	w.line("<?php")
	w.line("// " + head)
	w.line("declare(strict_types=1);")
	if w.Package != "" {
		w.line("")
		w.line("namespace %s;", w.Package)
	}
	for _, c := range w.Choices {
		w.line("")
		w.comment("", "The values of "+c.Name+".")
		w.line("enum %s: string", w.choices[c])
		w.line("{")
		values := (naming{style: pascal, never: words("Class"), escape: underscored}).values(c)
		for i, v := range values {
			w.line("    case %s = %s;", v, phpText(c.Values[i]))
		}
		w.line("}")
	}
	w.line("%s", phpLeave)
	names := naming{style: phpName, never: words("this"), escape: underscored}
	if w.Case == "camel" {
		names.style = camel
	}
	for _, m := range w.Models {
		w.as = names.all(m.Fields)
		w.phpRow(m)
		w.phpPart(m, "Insert", "What an insert into "+m.Table+" gives.", m.Inserted(),
			func(f *Field) bool { return f.Default })
		w.phpPart(m, "Update", "What an update of "+m.Table+" changes.", m.Updated(),
			func(*Field) bool { return true })
	}
	return []File{w.file("types.php")}
}

func (w *writer) phpRow(m *Model) {
	w.line("")
	w.comment("", m.about())
	w.line("final readonly class %s", w.models[m])
	w.line("{")
	w.phpFields(m.Fields, func(f *Field) string { return phpNullable(w.phpType(f), f.Null) })
	w.line("")
	w.comment("    ", "Makes one of a row as a driver reads it, by the names of the columns.")
	w.line("    public static function fromRow(array $row): self")
	w.line("    {")
	w.line("        return new self(")
	for _, f := range m.Fields {
		w.line("            %s,", w.phpRead(f, "$row["+phpText(f.Column)+"]"))
	}
	w.line("        );")
	w.line("    }")
	w.line("")
	w.comment("    ", "Makes a row as a driver stores it, by the names of the columns.")
	w.line("    public function toRow(): array")
	w.line("    {")
	w.line("        return [")
	for _, f := range m.Fields {
		w.line("            %s => %s,", phpText(f.Column), w.phpStore(f, "$this->"+w.as[f]))
	}
	w.line("        ];")
	w.line("    }")
	w.line("}")
}

func phpNullable(t string, null bool) string {
	if null {
		return "?" + t
	}
	return t
}

func (w *writer) phpFields(fields []*Field, one func(*Field) string) {
	w.line("    public function __construct(")
	for _, f := range fields {
		w.comment("        ", f.About())
		t, value, _ := strings.Cut(one(f), " = ")
		if value != "" {
			value = " = " + value
		}
		w.line("        public %s $%s%s,", t, w.as[f], value)
	}
	w.line("    ) {")
	w.line("    }")
}

// phpPart writes what an insert or an update gives: may says which fields can be left out, and those
// that must be given come first.
func (w *writer) phpPart(m *Model, kind, about string, fields []*Field, may func(*Field) bool) {
	fields = slices.Clone(fields)
	later := func(f *Field) int {
		if may(f) || f.Null {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(fields, func(a, b *Field) int { return later(a) - later(b) })
	w.line("")
	w.comment("", about)
	w.line("final readonly class %s", w.models[m]+kind)
	w.line("{")
	w.phpFields(fields, func(f *Field) string {
		t := w.phpType(f)
		switch {
		case may(f) && f.Null:
			return t + "|null|Leave = Leave::Out"
		case may(f):
			return t + "|Leave = Leave::Out"
		case f.Null:
			return "?" + t + " = null"
		}
		return t
	})
	w.line("")
	w.comment("    ", "Makes a row as a driver stores it, by the names of the columns, of what is given.")
	w.line("    public function toRow(): array")
	w.line("    {")
	w.line("        $row = [];")
	for _, f := range fields {
		value := "$this->" + w.as[f]
		set := fmt.Sprintf("$row[%s] = %s;", phpText(f.Column), w.phpStore(f, value))
		if !may(f) {
			w.line("        %s", set)
			continue
		}
		w.line("        if (!(%s instanceof Leave)) {", value)
		w.line("            %s", set)
		w.line("        }")
	}
	w.line("        return $row;")
	w.line("    }")
	w.line("}")
}

// phpRead is the expression that makes a field of what a driver gives.
func (w *writer) phpRead(f *Field, value string) string {
	if f.Array() { // drivers give its text
		return value
	}
	out := ""
	switch f.stored() {
	case asInt16, asInt32, asInt64, asUint16, asUint32:
		out = "(int) " + value
	case asFloat32, asFloat64:
		out = "(float) " + value
	case asBoolean:
		out = "in_array(" + value + ", [true, 1, '1', 't'], true)"
	case asDate:
		out = `new \DateTimeImmutable(` + value + `, new \DateTimeZone('UTC'))`
	case asTimestamp, asDatetime:
		out = `new \DateTimeImmutable(` + value + `, new \DateTimeZone('UTC'))`
	case asChoice:
		out = w.choices[f.Choice] + "::from(" + value + ")"
	default:
		out = "(string) " + value
	}
	if f.Null {
		return fmt.Sprintf("%s === null ? null : %s", value, out)
	}
	return out
}

// phpStore is the expression that makes of a field what a driver stores.
func (w *writer) phpStore(f *Field, value string) string {
	if f.Array() {
		return value
	}
	call := "->"
	if f.Null {
		call = "?->"
	}
	switch f.stored() {
	case asBoolean:
		if f.Null {
			return fmt.Sprintf("%s === null ? null : (int) %s", value, value)
		}
		return "(int) " + value
	case asDate:
		return value + call + "format('Y-m-d')"
	case asTimestamp:
		utc := value + call + `setTimezone(new \DateTimeZone('UTC'))` + call
		if w.Engine == "postgres" { // there, text without a zone is in that of the session
			return utc + `format('Y-m-d H:i:s.uP')`
		}
		return w.phpSeconds(f, value, utc)
	case asDatetime:
		return w.phpSeconds(f, value, value+call)
	case asChoice:
		return value + call + "value"
	}
	return value
}

// phpSeconds formats a time, without zeros at the end of a second's digits: SQLite has three of them, or none.
func (w *writer) phpSeconds(f *Field, value, utc string) string {
	text := "rtrim(rtrim(" + utc + "format('Y-m-d H:i:s.u'), '0'), '.')"
	if w.sqlite() {
		text = "str_replace('.000', '', " + utc + "format('Y-m-d H:i:s.v'))"
	}
	if f.Null {
		return value + " === null ? null : " + text
	}
	return text
}

const phpLeave = `
/** What is left out of an insert or an update. */
enum Leave
{
    case Out;
}`
