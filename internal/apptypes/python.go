package apptypes

// This file writes Python: dataclasses for rows, typed dictionaries for inserts and updates, and
// enumerations of texts for choices.

import (
	"fmt"
	"slices"
	"strings"
)

func pyName(column string) string {
	if plain(column) {
		return column
	}
	return snake(column)
}

// pyType is the type of a field's values, without None.
func (w *writer) pyType(f *Field) string {
	one := map[stored]string{
		asInt16: "int", asInt32: "int", asInt64: "int", asUint16: "int", asUint32: "int", asUint64: "int",
		asFloat32: "float", asFloat64: "float", asBoolean: "bool", asDate: "date", asTime: "time",
		asTimestamp: "datetime", asDatetime: "datetime", asDecimal: "Decimal", asUUID: "UUID", asBytes: "bytes",
	}[f.stored()]
	switch {
	case f.stored() == asChoice:
		one = w.choices[f.Choice]
	case one == "":
		one = "str"
	case slices.Contains([]string{"date", "time", "datetime"}, one):
		one = "dt." + one // a field may be called date
	}
	if f.Array() {
		return "list[" + one + "]"
	}
	return one
}

func (w *writer) pyNullable(f *Field) string {
	if f.Null {
		return w.pyType(f) + " | None"
	}
	return w.pyType(f)
}

func pyDoc(text string) string {
	text = strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(oneLine(text))
	return `"""` + text + `"""`
}

func python(w *writer) []File {
	w.line("# " + head)
	w.line("from __future__ import annotations")
	w.line("")
	if w.has(is(asDate, asTime, asTimestamp, asDatetime)) {
		w.line("import datetime as dt")
	}
	if w.has(is(asJSON)) {
		w.line("import json")
	}
	w.line("from collections.abc import Mapping")
	w.line("from dataclasses import dataclass")
	if w.has(is(asDecimal)) {
		w.line("from decimal import Decimal")
	}
	if len(w.Choices) > 0 {
		w.line("from enum import Enum")
	}
	w.line("from typing import Any, NotRequired, TypedDict")
	if w.has(is(asUUID)) {
		w.line("from uuid import UUID")
	}
	for _, c := range w.Choices {
		w.line("")
		w.line("")
		w.line("class %s(str, Enum):", w.choices[c])
		w.line("    %s", pyDoc("The values of "+c.Name+"."))
		w.line("")
		for i, v := range (naming{style: shout}).values(c) {
			w.line("    %s = %s", v, quoted(c.Values[i]))
		}
	}
	names := naming{style: pyName, never: reserved("python fields"), escape: underscored}
	if w.Case == "camel" {
		names.style = camel
	}
	for _, m := range w.Models {
		w.as = names.all(m.Fields)
		w.pyClass(m)
		w.pyDict(m, "Insert", "What an insert into "+m.Table+" gives.", m.Inserted(), (*Field).Omissible)
		w.pyDict(m, "Update", "What an update of "+m.Table+" may change.", m.Updated(),
			func(*Field) bool { return true })
	}
	w.pyConversions()
	return []File{w.file("models.py")}
}

func (w *writer) pyClass(m *Model) {
	name := w.models[m]
	w.line("")
	w.line("")
	w.line("@dataclass(slots=True, kw_only=True)")
	w.line("class %s:", name)
	w.line("    %s", pyDoc(m.about()))
	w.line("")
	for _, f := range m.Fields {
		w.line("    %s: %s", w.as[f], w.pyNullable(f))
		if about := f.About(); about != "" {
			w.line("    %s", pyDoc(about))
		}
	}
	w.line("")
	w.line("    @classmethod")
	w.line("    def from_row(cls, row: Mapping[str, Any]) -> %s:", name)
	w.line("        %s", pyDoc("Make one of a row as a driver reads it, by the names of the columns."))
	w.line("        return cls(")
	for _, f := range m.Fields {
		w.line("            %s=%s,", w.as[f], w.pyRead(f, "row["+quoted(f.Column)+"]"))
	}
	w.line("        )")
	w.line("")
	w.line("    def to_row(self) -> dict[str, Any]:")
	w.line("        %s", pyDoc("Make a row as a driver stores it, by the names of the columns."))
	w.line("        return {")
	for _, f := range m.Fields {
		w.line("            %s: %s,", quoted(f.Column), w.pyStore(f, "self."+w.as[f]))
	}
	w.line("        }")
}

// pyDict writes a typed dictionary, by the names of the columns: the other form has it too, since a
// dictionary is what the driver gets.
func (w *writer) pyDict(m *Model, kind, about string, fields []*Field, may func(*Field) bool) {
	name := w.models[m] + kind
	never := reserved("python fields")
	plainly := !slices.ContainsFunc(fields, func(f *Field) bool { return !plain(f.Column) || never[f.Column] })
	w.line("")
	w.line("")
	if plainly {
		w.line("class %s(TypedDict):", name)
		w.line("    %s", pyDoc(about))
		w.line("")
	} else { // a class cannot say these names
		w.line("%s = TypedDict(", name)
		w.line("    %s,", quoted(name))
		w.line("    {")
	}
	for _, f := range fields {
		t := w.pyNullable(f)
		if may(f) {
			t = "NotRequired[" + t + "]"
		}
		if plainly {
			w.line("    %s: %s", f.Column, t)
		} else {
			w.line("        %s: %s,", quoted(f.Column), quoted(t))
		}
	}
	if !plainly {
		w.line("    },")
		w.line(")")
		w.line(pyDoc(about))
	}
}

// pyRead is the expression that makes a field of what a driver gives.
func (w *writer) pyRead(f *Field, value string) string {
	one := func(of string) string {
		switch f.stored() {
		case asDecimal:
			return "Decimal(str(" + of + "))"
		case asBoolean:
			return "bool(" + of + ")"
		case asDate:
			return "_date(" + of + ")"
		case asTime:
			return "_time(" + of + ")"
		case asTimestamp:
			return "_timestamp(" + of + ")"
		case asDatetime:
			return "_datetime(" + of + ")"
		case asUUID:
			return "UUID(str(" + of + "))"
		case asJSON:
			return "_json(" + of + ")"
		case asChoice:
			return w.choices[f.Choice] + "(" + of + ")"
		}
		return of
	}
	return pyEach(f, value, one)
}

// pyStore is the expression that makes of a field what a driver stores.
func (w *writer) pyStore(f *Field, value string) string {
	one := func(of string) string {
		switch {
		case f.stored() == asChoice:
			return of + ".value"
		case !w.sqlite():
			return of
		}
		switch f.stored() {
		case asDecimal, asUUID:
			return "str(" + of + ")"
		case asDate:
			return of + ".isoformat()"
		case asTime:
			return of + `.isoformat("milliseconds").removesuffix(".000")`
		case asTimestamp:
			return of + `.astimezone(dt.timezone.utc).replace(tzinfo=None)` + pyMilliseconds
		case asDatetime:
			return of + pyMilliseconds
		}
		return of
	}
	return pyEach(f, value, one)
}

// pyEach is what one gives for a value, for the elements of an array, and for one that may be None.
func pyEach(f *Field, value string, one func(string) string) string {
	out := one(value)
	if out == value {
		return value
	}
	if f.Array() {
		out = fmt.Sprintf("[%s for x in %s]", one("x"), value)
	}
	if f.Null {
		return fmt.Sprintf("None if %s is None else %s", value, out)
	}
	return out
}

func (w *writer) pyConversions() {
	for _, c := range []struct {
		of   stored
		text string
	}{
		{asDate, pyDate}, {asTime, pyTime}, {asTimestamp, pyTimestamp}, {asDatetime, pyDatetime}, {asJSON, pyJSON},
	} {
		if w.has(is(c.of)) {
			w.line("%s", c.text)
		}
	}
}

const (
	pyDate = `

def _date(stored: Any) -> dt.date:
    return stored if isinstance(stored, dt.date) else dt.date.fromisoformat(stored)`
	pyTime = `

def _time(stored: Any) -> dt.time:
    if isinstance(stored, dt.timedelta):
        return (dt.datetime.min + stored).time()
    return stored if isinstance(stored, dt.time) else dt.time.fromisoformat(stored)`
	pyTimestamp = `

def _timestamp(stored: Any) -> dt.datetime:
    """Make an instant. What has no zone is in UTC."""
    at = stored if isinstance(stored, dt.datetime) else dt.datetime.fromisoformat(stored)
    return at.replace(tzinfo=dt.timezone.utc) if at.tzinfo is None else at`
	pyDatetime = `

def _datetime(stored: Any) -> dt.datetime:
    return stored if isinstance(stored, dt.datetime) else dt.datetime.fromisoformat(stored)`
	// pyMilliseconds makes of a time what SQLite stores: three digits of a second, or none.
	pyMilliseconds = `.isoformat(" ", "milliseconds").removesuffix(".000")`
	pyJSON         = `

def _json(stored: Any) -> str:
    """Make JSON text. Some drivers give the value that it holds."""
    return stored if isinstance(stored, str) else json.dumps(stored)`
)
