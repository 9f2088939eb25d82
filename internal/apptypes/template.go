package apptypes

// This file fills templates of the user's own, in Go's text/template.

import (
	"fmt"
	"strings"
	"text/template"
)

// Fill gives what a template makes of the types: its values are a Types, and it can call pascal,
// camel, snake, shout and quote of a name. name is what errors call the template.
func Fill(t *Types, name, text string) (string, error) {
	parsed, err := template.New(name).Funcs(template.FuncMap{
		"pascal": pascal, "camel": camel, "snake": snake, "shout": shout, "quote": quoted,
	}).Option("missingkey=error").Parse(text)
	var out strings.Builder
	if err == nil {
		err = parsed.Execute(&out, t)
	}
	if err != nil {
		return "", fmt.Errorf("the template cannot be used: %s", strings.TrimPrefix(err.Error(), "template: "))
	}
	return out.String(), nil
}
