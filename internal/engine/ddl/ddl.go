// Package ddl holds what the engines do alike when they turn declarations and changes into
// SQL: each puts in the few words that are its own. What an engine does in a way of its own is
// in its own folder.
//
//	var lowering = &ddl.Lowering{
//		Quote: quote, SQL: sqlOf, Between: "%[1]s BETWEEN %[2]s AND %[3]s",
//		OneOf: func(x string, values []string) string { return x + " IN (" + strings.Join(values, ", ") + ")" },
//	}
package ddl
