package apptypes

// This file writes JSON Schema, of the draft 2020-12: of each model three definitions.

import (
	"bytes"
	"encoding/json"
	"math"

	"erbario/internal/schema"
)

func jsonschema(w *writer) []File {
	as := naming{style: func(s string) string { return s }}
	if w.Case == "camel" {
		as.style = camel
	}
	defs := ordered{}
	for _, c := range w.Choices {
		defs.set(w.choices[c], ordered{{"enum", c.Values}})
	}
	for _, m := range w.Models {
		names := as.all(m.Fields)
		object := func(about string, fields []*Field, must func(*Field) bool) ordered {
			properties, required := ordered{}, []string{}
			for _, f := range fields {
				properties.set(names[f], w.jsonField(f))
				if must(f) {
					required = append(required, names[f])
				}
			}
			return ordered{{"description", about}, {"type", "object"}, {"properties", properties},
				{"required", required}, {"additionalProperties", false}}
		}
		name := w.models[m]
		defs.set(name, object(m.about(), m.Fields, func(*Field) bool { return true }))
		defs.set(name+"Insert", object("What an insert into "+m.Table+" gives.", m.Inserted(),
			func(f *Field) bool { return !f.Omissible() }))
		defs.set(name+"Update", object("What an update of "+m.Table+" may change.", m.Updated(),
			func(*Field) bool { return false }))
	}
	whole := ordered{{"$schema", "https://json-schema.org/draft/2020-12/schema"}, {"$comment", head}, {"$defs", defs}}
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	_ = enc.Encode(whole) // of maps, lists and texts alone
	w.text.WriteString(text.String())
	return []File{w.file("types.schema.json")}
}

// jsonField is the schema of a field's values.
func (w *writer) jsonField(f *Field) ordered {
	one := w.jsonValue(f)
	if f.Array() {
		one = ordered{{"type", "array"}, {"items", one}}
	}
	if f.Null && (f.stored() != asJSON || f.Array()) {
		if t, ok := one.get("type").(string); ok {
			one.set("type", []string{t, "null"})
		} else {
			one = ordered{{"anyOf", []ordered{one, {{"type", "null"}}}}}
		}
	}
	if about := oneLine(f.About()); about != "" {
		one = append(ordered{{"description", about}}, one...)
	}
	return one
}

func (w *writer) jsonValue(f *Field) ordered {
	t := f.element()
	whole := func(from, to any) ordered { return f.limits(ordered{{"type", "integer"}}, from, to) }
	format := func(name string) ordered { return ordered{{"type", "string"}, {"format", name}} }
	switch f.stored() {
	case asInt16:
		return whole(math.MinInt16, math.MaxInt16)
	case asInt32:
		return whole(math.MinInt32, math.MaxInt32)
	case asInt64:
		return whole(nil, nil)
	case asUint16:
		return whole(0, math.MaxUint16)
	case asUint32:
		return whole(0, math.MaxUint32)
	case asUint64:
		return whole(0, nil)
	case asFloat32, asFloat64:
		return f.limits(ordered{{"type", "number"}}, nil, nil)
	case asDecimal:
		return ordered{{"type", "string"}, {"pattern", `^-?\d+(\.\d+)?$`}}
	case asBoolean:
		return ordered{{"type", "boolean"}}
	case asDate:
		return format("date")
	case asTimestamp:
		return format("date-time")
	case asUUID:
		return format("uuid")
	case asJSON:
		return ordered{}
	case asBytes:
		return ordered{{"type", "string"}, {"contentEncoding", "base64"}}
	case asChoice:
		return ordered{{"$ref", "#/$defs/" + w.choices[f.Choice]}}
	}
	out := ordered{{"type", "string"}}
	if t.Kind == schema.Text && t.Length > 0 {
		out.set("maxLength", t.Length)
	}
	if f.Nonblank {
		out.set("pattern", `[^ ]`)
	}
	return out
}

// limits adds the least and the greatest value: those of the type, or closer ones that the model says.
func (f *Field) limits(of ordered, from, to any) ordered {
	if r := f.Range; r != nil {
		if r.From != nil {
			from = json.Number(r.From.Text)
		}
		if r.To != nil {
			to = json.Number(r.To.Text)
		}
	}
	if from != nil {
		of.set("minimum", from)
	}
	if to != nil {
		of.set("maximum", to)
	}
	return of
}

// ordered is an object of JSON whose members keep their order.
type ordered []member

type member struct {
	name  string
	value any
}

func (o *ordered) set(name string, value any) {
	for i := range *o {
		if (*o)[i].name == name {
			(*o)[i].value = value
			return
		}
	}
	*o = append(*o, member{name, value})
}

func (o ordered) get(name string) any {
	for _, m := range o {
		if m.name == name {
			return m.value
		}
	}
	return nil
}

// MarshalJSON writes the members in their order.
func (o ordered) MarshalJSON() ([]byte, error) {
	var out bytes.Buffer
	out.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			out.WriteByte(',')
		}
		enc := json.NewEncoder(&out)
		enc.SetEscapeHTML(false)
		if err := enc.Encode(m.name); err != nil {
			return nil, err
		}
		out.WriteByte(':')
		if err := enc.Encode(m.value); err != nil {
			return nil, err
		}
	}
	out.WriteByte('}')
	return out.Bytes(), nil
}
