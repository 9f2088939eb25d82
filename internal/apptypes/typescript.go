package apptypes

// This file writes TypeScript: interfaces, unions of texts for choices, and for each model a
// function that makes it from a driver's row, and one that makes a row of it.

import (
	"fmt"
	"strings"
)

var tsNames = map[bool]naming{
	false: {style: func(s string) string { return s }},
	true:  {style: camel},
}

// tsType is the type of a field's values, without null.
func (w *writer) tsType(f *Field) string {
	one := ""
	switch f.stored() {
	case asInt16, asInt32, asUint16, asUint32, asFloat32, asFloat64:
		one = "number"
	case asInt64, asUint64:
		one = w.int64()
	case asBoolean:
		one = "boolean"
	case asTimestamp:
		one = "Date"
	case asJSON:
		one = "unknown"
	case asBytes:
		one = "Uint8Array"
	case asChoice:
		one = w.choices[f.Choice]
	default:
		one = "string"
	}
	if f.Array() {
		return one + "[]"
	}
	return one
}

func (w *writer) int64() string {
	if w.Int64 == "" {
		return "bigint"
	}
	return w.Int64
}

func tsKey(name string) string {
	if plain(name) {
		return name
	}
	return quoted(name)
}

func tsMember(of, name string) string {
	if plain(name) {
		return of + "." + name
	}
	return of + "[" + quoted(name) + "]"
}

func typescript(w *writer) []File {
	w.line("// " + head)
	for _, c := range w.Choices {
		var list []string
		for _, v := range c.Values {
			list = append(list, quoted(v))
		}
		w.line("")
		w.line("export type %s = %s;", w.choices[c], strings.Join(list, " | "))
	}
	names := tsNames[w.Case == "camel"]
	for _, m := range w.Models {
		w.as = names.all(m.Fields)
		w.tsInterface(w.models[m], m.about(), m.Fields, func(*Field) bool { return false })
		w.tsInterface(w.models[m]+"Insert", "What an insert into "+m.Table+" gives.", m.Inserted(), (*Field).Omissible)
		w.tsInterface(w.models[m]+"Update", "What an update of "+m.Table+" may change.", m.Updated(),
			func(*Field) bool { return true })
		w.tsRows(m)
	}
	w.tsConversions()
	return []File{w.file("types.ts")}
}

func (w *writer) tsInterface(name, about string, fields []*Field, may func(*Field) bool) {
	w.line("")
	w.comment("", about)
	w.line("export interface %s {", name)
	for _, f := range fields {
		w.comment("  ", f.About())
		mark, null := "", ""
		if may(f) {
			mark = "?"
		}
		if f.Null && f.stored() != asJSON { // null is one of unknown
			null = " | null"
		} else if f.Null && f.Array() {
			null = " | null"
		}
		w.line("  %s%s: %s%s;", tsKey(w.as[f]), mark, w.tsType(f), null)
	}
	w.line("}")
}

// tsRows writes the two functions between a model and a row.
func (w *writer) tsRows(m *Model) {
	name := w.models[m]
	w.line("")
	w.comment("", "Makes a "+name+" of a row as a driver reads it, by the names of the columns.")
	w.line("export function to%s(row: { readonly [column: string]: unknown }): %s {", name, name)
	w.line("  return {")
	for _, f := range m.Fields {
		value := "row[" + quoted(f.Column) + "]"
		w.line("    %s: %s,", tsKey(w.as[f]), w.tsRead(f, value))
	}
	w.line("  };")
	w.line("}")
	w.line("")
	w.comment("", "Makes a row as a driver stores it, by the names of the columns, of the fields that are given.")
	w.line("export function from%s(given: Partial<%s>): { [column: string]: unknown } {", name, name)
	w.line("  const row: { [column: string]: unknown } = {};")
	for _, f := range m.Fields {
		value := tsMember("given", w.as[f])
		w.line("  if (%s !== undefined) row[%s] = %s;", value, quoted(f.Column), w.tsStore(f, value))
	}
	w.line("  return row;")
	w.line("}")
}

// tsRead is the expression that makes a field of what a driver gives.
func (w *writer) tsRead(f *Field, value string) string {
	to := map[stored]string{
		asInt64: "readInt64", asUint64: "readInt64", asDecimal: "readDecimal", asBoolean: "readBoolean",
		asTimestamp: "readTimestamp", asDate: "readDate", asDatetime: "readDatetime",
	}[f.stored()]
	if f.stored() == asJSON && w.Engine != "postgres" {
		to = "readJSON"
	}
	switch {
	case to == "" && f.Null:
		return fmt.Sprintf("(%s ?? null) as %s | null", value, w.tsType(f))
	case to == "" && f.stored() == asJSON && !f.Array():
		return value
	case to == "":
		return value + " as " + w.tsType(f)
	case f.Array() && f.Null:
		return fmt.Sprintf("orNull(%s, (list) => (list as unknown[]).map(%s))", value, to)
	case f.Array():
		return fmt.Sprintf("(%s as unknown[]).map(%s)", value, to)
	case f.Null:
		return fmt.Sprintf("orNull(%s, %s)", value, to)
	}
	return to + "(" + value + ")"
}

// tsStore is the expression that makes of a field what a driver stores.
func (w *writer) tsStore(f *Field, value string) string {
	from := ""
	switch {
	case f.stored() == asJSON && f.Array():
		return value
	case f.stored() == asJSON && f.Null:
		return fmt.Sprintf("%s === null ? null : JSON.stringify(%s)", value, value)
	case f.stored() == asJSON:
		return "JSON.stringify(" + value + ")"
	case !w.sqlite():
	case f.stored() == asBoolean:
		from = "Number"
	case f.stored() == asTimestamp:
		from = "storeTimestamp"
	}
	switch {
	case from == "":
		return value
	case f.Null:
		return fmt.Sprintf("%s === null ? null : %s(%s)", value, from, value)
	}
	return from + "(" + value + ")"
}

// tsConversions writes the functions that the others use.
func (w *writer) tsConversions() {
	write := func(need bool, text string) {
		if need {
			w.line("")
			w.line("%s", strings.TrimSpace(text))
		}
	}
	converted := is(asInt64, asUint64, asDecimal, asBoolean, asTimestamp, asDate, asDatetime)
	write(w.has(func(f *Field) bool {
		return f.Null && (converted(f) || f.stored() == asJSON && w.Engine != "postgres")
	}), tsOrNull)
	write(w.has(is(asInt64, asUint64)), map[string]string{
		"bigint": tsBigint, "string": tsString, "number": tsNumber}[w.int64()])
	write(w.has(is(asDecimal)), tsDecimal)
	write(w.has(is(asBoolean)), tsBoolean)
	write(w.has(is(asTimestamp)), tsTimestamp)
	write(w.has(is(asTimestamp)) && w.sqlite(), tsStoreTimestamp)
	write(w.has(is(asDate, asDatetime)), tsDate)
	write(w.has(is(asDatetime)), tsDatetime)
	write(w.has(is(asJSON)) && w.Engine != "postgres", tsJSON)
}

const (
	tsOrNull = `
function orNull<T>(stored: unknown, read: (stored: unknown) => T): T | null {
  return stored === null || stored === undefined ? null : read(stored);
}`
	tsBigint = `
/** A whole number of 64 bits, exact if the driver gives it so. */
export function readInt64(stored: unknown): bigint {
  return BigInt(stored as string | number | bigint);
}`
	tsString = `
/** A whole number of 64 bits as text, exact if the driver gives it so. */
export function readInt64(stored: unknown): string {
  return String(stored);
}`
	tsNumber = `
/** A whole number of 64 bits as a number: one beyond 2^53 is refused, since it would be another. */
export function readInt64(stored: unknown): number {
  const value = Number(stored);
  if (!Number.isSafeInteger(value)) throw new RangeError(String(stored) + " is not exact as a number");
  return value;
}`
	tsDecimal = `
/** A decimal number as text, since a number would not be exact. */
export function readDecimal(stored: unknown): string {
  return String(stored);
}`
	tsBoolean = `
/** True or false, which some databases store as 1 and 0. */
export function readBoolean(stored: unknown): boolean {
  return Number(stored) === 1;
}`
	tsTimestamp = `
/** An instant. Text without a zone is in UTC, a number is in milliseconds. Digits beyond those are cut off. */
export function readTimestamp(stored: unknown): Date {
  if (stored instanceof Date) return stored;
  if (typeof stored === "number") return new Date(stored);
  const text = String(stored).replace(" ", "T").replace(/([+-]\d\d)$/, "$1:00");
  return new Date(/(Z|[+-]\d\d:\d\d)$/.test(text) ? text : text + "Z");
}`
	tsStoreTimestamp = `
/** An instant as SQLite stores it: text in UTC. */
export function storeTimestamp(value: Date): string {
  return value.toISOString().replace("T", " ").replace(/(\.000)?Z$/, "");
}`
	tsDate = `
/** A day as text, 2026-01-31: drivers that make a Date of it make one in the zone of the machine. */
export function readDate(stored: unknown): string {
  if (!(stored instanceof Date)) return String(stored);
  const two = (n: number) => String(n).padStart(2, "0");
  const year = String(stored.getFullYear()).padStart(4, "0");
  return year + "-" + two(stored.getMonth() + 1) + "-" + two(stored.getDate());
}`
	tsDatetime = `
/** A time without a zone as text, 2026-01-31 08:30:00. */
export function readDatetime(stored: unknown): string {
  if (!(stored instanceof Date)) return String(stored);
  const two = (n: number) => String(n).padStart(2, "0");
  const time = [stored.getHours(), stored.getMinutes(), stored.getSeconds()].map(two).join(":");
  const rest = stored.getMilliseconds();
  return readDate(stored) + " " + time + (rest === 0 ? "" : "." + String(rest).padStart(3, "0"));
}`
	tsJSON = `
/** The value that JSON text holds. */
export function readJSON(stored: unknown): unknown {
  return typeof stored === "string" ? JSON.parse(stored) : stored;
}`
)
