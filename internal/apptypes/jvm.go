package apptypes

// This file writes Java and Kotlin: records and data classes, and enumerations for choices.

import (
	"slices"
	"strings"
)

// jvmType is the type of a field's values in Java, with objects where generics or null need them,
// and in Kotlin.
func (w *writer) jvmType(f *Field, object bool) string {
	kotlin := w.Language == "kotlin"
	pick := func(java, boxed, other string) string {
		switch {
		case kotlin:
			return other
		case object || f.Array():
			return boxed
		}
		return java
	}
	one := "String"
	switch f.stored() {
	case asInt16:
		one = pick("short", "Short", "Short")
	case asInt32, asUint16:
		one = pick("int", "Integer", "Int")
	case asInt64, asUint32:
		one = pick("long", "Long", "Long")
	case asUint64:
		one = "BigInteger"
	case asDecimal:
		one = "BigDecimal"
	case asFloat32:
		one = pick("float", "Float", "Float")
	case asFloat64:
		one = pick("double", "Double", "Double")
	case asBoolean:
		one = pick("boolean", "Boolean", "Boolean")
	case asDate:
		one = "LocalDate"
	case asTime:
		one = "LocalTime"
	case asTimestamp:
		one = "Instant"
	case asDatetime:
		one = "LocalDateTime"
	case asUUID:
		one = "UUID"
	case asBytes:
		one = pick("byte[]", "byte[]", "ByteArray")
	case asChoice:
		one = w.choices[f.Choice]
	}
	if f.Array() {
		return "List<" + one + ">"
	}
	return one
}

// jvmImports are the imports of some fields; optional: one of them is an Optional.
func (w *writer) jvmImports(fields []*Field, optional bool) (list []string) {
	names := map[stored]string{
		asUint64: "java.math.BigInteger", asDecimal: "java.math.BigDecimal", asDate: "java.time.LocalDate",
		asTime: "java.time.LocalTime", asTimestamp: "java.time.Instant", asDatetime: "java.time.LocalDateTime",
		asUUID: "java.util.UUID",
	}
	for _, f := range fields {
		if n := names[f.stored()]; n != "" {
			list = append(list, n)
		}
		if f.Array() && w.Language == "java" {
			list = append(list, "java.util.List")
		}
	}
	if optional {
		list = append(list, "java.util.Optional")
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// jvmPart is the type of a field where it may be left out: null then, and an empty Optional is null.
func (w *writer) jvmPart(f *Field, update bool) (t string, omissible bool) {
	switch {
	case f.Null && (update || f.Default):
		return "Optional<" + w.jvmType(f, true) + ">", true
	case update, f.Omissible():
		return w.jvmType(f, true), true
	}
	return w.jvmType(f, false), false
}

// jvmOptional says whether one of the fields is an Optional.
func (w *writer) jvmOptional(fields []*Field, update bool) bool {
	return slices.ContainsFunc(fields, func(f *Field) bool {
		t, _ := w.jvmPart(f, update)
		return strings.HasPrefix(t, "Optional<")
	})
}

const (
	leftOut   = " What is null is left out."
	unchanged = " What is null stays as it is; an empty Optional makes it null."
)

func (w *writer) packageLine(end string) {
	w.line("// " + head)
	if w.Package != "" {
		w.line("package %s%s", w.Package, end)
	}
}

// java writes a file for each type, since a public type has one of its own.
func java(w *writer) (files []File) {
	for _, c := range w.Choices {
		w.packageLine(";")
		w.javaEnum(c)
		files = append(files, w.file(w.choices[c]+".java"))
	}
	names := naming{style: camel, never: reserved("java fields"), escape: underscored}
	for _, m := range w.Models {
		w.as = names.all(m.Fields)
		record := func(kind, about string, fields []*Field, optional bool, one func(*Field) string) {
			w.packageLine(";")
			w.line("")
			imports := w.jvmImports(fields, optional)
			for _, i := range imports {
				w.line("import %s;", i)
			}
			if len(imports) > 0 {
				w.line("")
			}
			w.line("/**")
			w.line(" * %s", oneLine(strings.ReplaceAll(about, "*/", "* /")))
			w.line(" *")
			for _, f := range fields {
				said := "the column " + f.Column
				if more := f.About(); more != "" {
					said += ": " + oneLine(strings.ReplaceAll(more, "*/", "* /"))
				}
				w.line(" * @param %s %s", w.as[f], strings.NewReplacer("<", "&lt;", "@", "&#64;").Replace(said))
			}
			w.line(" */")
			var list []string
			for _, f := range fields {
				list = append(list, "    "+one(f)+" "+w.as[f])
			}
			w.line("public record %s(", w.models[m]+kind)
			w.line("%s) {", strings.Join(list, ",\n"))
			w.line("}")
			files = append(files, w.file(w.models[m]+kind+".java"))
		}
		record("", m.about(), m.Fields, false, func(f *Field) string { return w.jvmType(f, f.Null) })
		record("Insert", "What an insert into "+m.Table+" gives."+leftOut, m.Inserted(),
			w.jvmOptional(m.Inserted(), false), func(f *Field) string { t, _ := w.jvmPart(f, false); return t })
		record("Update", "What an update of "+m.Table+" changes."+unchanged, m.Updated(),
			w.jvmOptional(m.Updated(), true), func(f *Field) string { t, _ := w.jvmPart(f, true); return t })
	}
	return files
}

func (w *writer) javaEnum(c *Choice) {
	name := w.choices[c]
	w.line("")
	w.comment("", "The values of "+c.Name+".")
	w.line("public enum %s {", name)
	for i, v := range (naming{style: shout, never: words("TEXT")}.escaped()).values(c) {
		end := ","
		if i == len(c.Values)-1 {
			end = ";"
		}
		w.line("    %s(%s)%s", v, quoted(c.Values[i]), end)
	}
	w.line("")
	w.line("    private final String text;")
	w.line("")
	w.line("    %s(String text) {", name)
	w.line("        this.text = text;")
	w.line("    }")
	w.line("")
	w.comment("    ", "The value as it is stored.")
	w.line("    public String text() {")
	w.line("        return text;")
	w.line("    }")
	w.line("")
	w.comment("    ", "The one that is stored as a text.")
	w.line("    public static %s of(String text) {", name)
	w.line("        for (%s one : values()) {", name)
	w.line("            if (one.text.equals(text)) {")
	w.line("                return one;")
	w.line("            }")
	w.line("        }")
	w.line("        throw new IllegalArgumentException(text);")
	w.line("    }")
	w.line("}")
}

func (n naming) escaped() naming {
	n.escape = underscored
	return n
}

func ticked(name string) string { return "`" + name + "`" }

func kotlin(w *writer) []File {
	w.packageLine("")
	var all []*Field
	optional := false
	for _, m := range w.Models {
		all = append(all, m.Fields...)
		optional = optional || w.jvmOptional(m.Inserted(), false) || w.jvmOptional(m.Updated(), true)
	}
	if imports := w.jvmImports(all, optional); len(imports) > 0 {
		w.line("")
		for _, i := range imports {
			w.line("import %s", i)
		}
	}
	for _, c := range w.Choices {
		w.line("")
		w.comment("", "The values of "+c.Name+".")
		w.line("enum class %s(val text: String) {", w.choices[c])
		for i, v := range (naming{style: shout}).values(c) {
			end := ","
			if i == len(c.Values)-1 {
				end = ";"
			}
			w.line("    %s(%s)%s", v, kotlinText(c.Values[i]), end)
		}
		w.line("")
		w.line("    companion object {")
		w.comment("        ", "The one that is stored as a text.")
		w.line("        fun of(text: String): %s = values().first { it.text == text }", w.choices[c])
		w.line("    }")
		w.line("}")
	}
	names := naming{style: camel, never: reserved("kotlin fields"), escape: ticked}
	for _, m := range w.Models {
		w.as = names.all(m.Fields)
		w.kotlinClass(m, "", m.about(), m.Fields,
			func(f *Field) (string, bool) { return w.jvmType(f, false), f.Null })
		w.kotlinClass(m, "Insert", "What an insert into "+m.Table+" gives."+leftOut, m.Inserted(),
			func(f *Field) (string, bool) { return w.jvmPart(f, false) })
		w.kotlinClass(m, "Update", "What an update of "+m.Table+" changes."+unchanged, m.Updated(),
			func(f *Field) (string, bool) { return w.jvmPart(f, true) })
	}
	return []File{w.file("Types.kt")}
}

func (w *writer) kotlinClass(m *Model, kind, about string, fields []*Field,
	one func(*Field) (t string, null bool)) {
	w.line("")
	w.comment("", about)
	if len(fields) == 0 { // a data class has at least one
		w.line("class %s", w.models[m]+kind)
		return
	}
	w.line("data class %s(", w.models[m]+kind)
	for i, f := range fields {
		w.comment("    ", f.About())
		t, null := one(f)
		if null {
			t += "?"
			if kind != "" {
				t += " = null"
			}
		}
		if i < len(fields)-1 { // older compilers take no comma at the end
			t += ","
		}
		w.line("    val %s: %s", w.as[f], t)
	}
	w.line(")")
}

// kotlinText is a text in quotes: $ begins a template there.
func kotlinText(s string) string { return strings.ReplaceAll(quoted(s), "$", `\$`) }
