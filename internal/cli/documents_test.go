package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"yellowfield/internal/secret"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// documents are the JSON documents of the commands, by the names of their schemas.
var documents = map[string]any{
	"access": accessDocument{}, "connection": connectionDocument{}, "error": errorDocument{}, "history": historyDocument{}, "inspect": inspectDocument{}, "inspect-fix": mendDocument{},
	"list": listDocument{}, "propose": proposeDocument{}, "run": runDocument{}, "settings-set": editDocument{}, "settings-show": shownDocument{}, "version": build{},
}

var write = flag.Bool("write", false, "write the schemas of the JSON documents anew")

// TestSchemasAreThoseOfTheDocuments holds docs/json against the types that are written out:
//
//	go test ./internal/cli -run Schemas -write
func TestSchemasAreThoseOfTheDocuments(t *testing.T) {
	t.Chdir("../..")
	reflector := jsonschema.Reflector{ExpandedStruct: true, Anonymous: true, AllowAdditionalProperties: true, Mapper: func(t reflect.Type) *jsonschema.Schema {
		if t == reflect.TypeFor[secret.Password]() { // which writes itself masked
			return &jsonschema.Schema{Type: "string"}
		}
		return nil
	}}
	require.NoError(t, reflector.AddGoComments("yellowfield", "internal"))
	for name, comment := range reflector.CommentMap {
		reflector.CommentMap[name] = strings.Join(strings.Fields(comment), " ")
	}
	found, err := filepath.Glob("docs/json/*.schema.json")
	require.NoError(t, err)
	for name, document := range documents {
		schema := reflector.Reflect(document)
		schema.Title = "yellowfield: " + name
		schema.Properties.Set("format", &jsonschema.Schema{Type: "integer", Const: jsonFormat, Description: "The version of the document's format."})
		schema.Required = append([]string{"format"}, schema.Required...)
		var text bytes.Buffer
		encoder := json.NewEncoder(&text)
		encoder.SetEscapeHTML(false)
		encoder.SetIndent("", "  ")
		require.NoError(t, encoder.Encode(schema))
		path := filepath.Join("docs/json", name+".schema.json")
		if *write {
			require.NoError(t, os.WriteFile(path, text.Bytes(), 0o644))
		}
		has, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, text.String(), string(has), path)
	}
	assert.Len(t, found, len(documents))
}
