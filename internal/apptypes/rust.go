package apptypes

// This file writes Rust: structs, and enums for choices.

import (
	"strconv"
	"strings"
)

func rustRaw(name string) string {
	switch name {
	case "self", "super", "crate", "Self":
		return name + "_"
	}
	return "r#" + name
}

// rustType is the type of a field's values, without None.
func (w *writer) rustType(f *Field) string {
	one := map[stored]string{
		asInt16: "i16", asInt32: "i32", asInt64: "i64", asUint16: "u16", asUint32: "u32", asUint64: "u64",
		asFloat32: "f32", asFloat64: "f64", asBoolean: "bool", asBytes: "Vec<u8>",
	}[f.stored()]
	if f.stored() == asChoice {
		one = w.choices[f.Choice]
	}
	if one == "" {
		one = "String"
	}
	if f.Array() {
		return "Vec<" + one + ">"
	}
	return one
}

func rust(w *writer) []File {
	w.line("// " + head)
	w.line("#![allow(dead_code)]")
	for _, c := range w.Choices {
		w.rustEnum(c)
	}
	names := naming{style: snake, never: reserved("rust fields"), escape: rustRaw}
	for _, m := range w.Models {
		w.as = names.all(m.Fields)
		name := w.models[m]
		w.rustStruct(name, m.about(), m.Fields, func(f *Field) string { return optionIf(f.Null, w.rustType(f)) })
		w.rustStruct(name+"Insert", "What an insert into "+m.Table+" gives. What is `None` is left out.", m.Inserted(),
			func(f *Field) string { return optionIf(f.Default, optionIf(f.Null, w.rustType(f))) })
		w.rustStruct(name+"Update", "What an update of "+m.Table+" changes. What is `None` stays as it is.", m.Updated(),
			func(f *Field) string { return optionIf(true, optionIf(f.Null, w.rustType(f))) })
	}
	return []File{w.file("types.rs")}
}

func optionIf(may bool, t string) string {
	if may {
		return "Option<" + t + ">"
	}
	return t
}

func (w *writer) rustStruct(name, about string, fields []*Field, one func(*Field) string) {
	w.line("")
	w.line("/// %s", oneLine(about))
	derive := "Clone, Debug, PartialEq"
	if strings.HasSuffix(about, "as it is.") {
		derive += ", Default"
	}
	w.line("#[derive(%s)]", derive)
	w.line("pub struct %s {", name)
	for _, f := range fields {
		if about := oneLine(f.About()); about != "" {
			w.line("    /// %s", about)
		}
		w.line("    pub %s: %s,", w.as[f], one(f))
	}
	w.line("}")
}

func (w *writer) rustEnum(c *Choice) {
	name := w.choices[c]
	values := (naming{style: pascal, never: words("Self"), escape: underscored}).values(c)
	w.line("")
	w.line("/// The values of %s.", c.Name)
	w.line("#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]")
	w.line("pub enum %s {", name)
	for _, v := range values {
		w.line("    %s,", v)
	}
	w.line("}")
	w.line("")
	w.line("impl %s {", name)
	w.line("    /// The value as it is stored.")
	w.line("    pub fn as_str(self) -> &'static str {")
	w.line("        match self {")
	for i, v := range values {
		w.line("            %s::%s => %s,", name, v, rustText(c.Values[i]))
	}
	w.line("        }")
	w.line("    }")
	w.line("}")
	w.line("")
	w.line("impl std::str::FromStr for %s {", name)
	w.line("    type Err = String;")
	w.line("")
	w.line("    fn from_str(text: &str) -> Result<Self, Self::Err> {")
	w.line("        match text {")
	for i, v := range values {
		w.line("            %s => Ok(%s::%s),", rustText(c.Values[i]), name, v)
	}
	w.line("            other => Err(format!(\"{other:?} is no value of %s\")),", c.Name)
	w.line("        }")
	w.line("    }")
	w.line("}")
}

// rustText is a text in quotes: other characters are written as \u{7f} there.
func rustText(s string) string {
	var out strings.Builder
	out.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			out.WriteString(`\` + string(r))
		case r < ' ' || r == 0x7f:
			out.WriteString(`\u{` + strconv.FormatInt(int64(r), 16) + `}`)
		default:
			out.WriteRune(r)
		}
	}
	return out.String() + `"`
}
