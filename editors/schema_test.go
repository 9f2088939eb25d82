package editors_test

import (
	"encoding/json"
	"maps"
	"os"
	"reflect"
	"slices"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/project"
)

// The schema of the settings has what the program reads, and nothing else.
func TestSchemaIsWhole(t *testing.T) {
	text, err := os.ReadFile("erbario.toml.schema.json")
	require.NoError(t, err)
	var doc map[string]any
	require.NoError(t, json.Unmarshal(text, &doc))
	same(t, "", doc, reflect.TypeFor[project.Settings]())
}

func same(t *testing.T, path string, schema map[string]any, is reflect.Type) {
	switch is.Kind() {
	case reflect.Map:
		below, ok := schema["additionalProperties"].(map[string]any)
		require.True(t, ok, "%s", path)
		same(t, path+".NAME", below, is.Elem())
	case reflect.Struct:
		properties, ok := schema["properties"].(map[string]any)
		require.True(t, ok, "%s", path)
		var read []string
		for i := range is.NumField() {
			name := is.Field(i).Tag.Get("toml")
			read = append(read, name)
			if below, ok := properties[name].(map[string]any); assert.True(t, ok, "%s.%s", path, name) {
				assert.True(t, below["description"] != nil, "%s.%s", path, name)
				same(t, path+"."+name, below, is.Field(i).Type)
			}
		}
		slices.Sort(read)
		assert.Equal(t, read, slices.Sorted(maps.Keys(properties)), "%s", path)
	}
}

// It takes the settings of the example, and refuses what the program refuses.
func TestSchemaFits(t *testing.T) {
	text, err := os.ReadFile("erbario.toml.schema.json")
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	var doc any
	require.NoError(t, json.Unmarshal(text, &doc))
	require.NoError(t, c.AddResource("schema.json", doc))
	s, err := c.Compile("schema.json")
	require.NoError(t, err)
	example, err := os.ReadFile("../examples/herbarium/project/erbario.toml")
	require.NoError(t, err)
	for settings, fits := range map[string]bool{
		string(example): true,
		"language = 1\n[types.web]\nlang = \"typescript\"\nfile = \"t.ts\"\ncase = \"camel\"\n": true,
		"language = 2\n": false,
		"language = 1\n[naming]\ntables = \"many\"\n":        false,
		"language = 1\n[naming]\nreference = \"id\"\n":       false,
		"language = 1\n[database.dev]\nthrowaway = true\n":   false,
		"language = 1\n[projct]\ndefault = \"dev\"\n":        false,
		"language = 1\n[models]\non_delete = \"set null\"\n": false,
		"language = 1\n[types.web]\nint64 = \"long\"\n":      false,
	} {
		var value any
		require.NoError(t, toml.Unmarshal([]byte(settings), &value))
		plain, err := json.Marshal(value)
		require.NoError(t, err)
		var again any
		require.NoError(t, json.Unmarshal(plain, &again))
		err = s.Validate(again)
		assert.Equal(t, fits, err == nil, "%s\n%v", settings, err)
	}
}
