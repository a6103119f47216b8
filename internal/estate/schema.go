package estate

import (
	"encoding/json"

	"github.com/invopop/jsonschema"
)

// JSONSchema gives the schema of the estate file for editors (JSON Schema,
// draft 2020-12), made from the types of this package.
func JSONSchema() ([]byte, error) {
	reflector := jsonschema.Reflector{FieldNameTag: "yaml", RequiredFromJSONSchemaTags: true, ExpandedStruct: true, Anonymous: true}
	schema := reflector.Reflect(&File{})
	schema.Title = "Yellowfield estate file"
	schema.Description = "Database servers and the PHP applications that use them. It holds no secret."
	text, err := json.MarshalIndent(schema, "", "  ")
	return append(text, '\n'), err
}

func texts() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "array", Items: &jsonschema.Schema{Type: "string"}}
}

func object(required []string, properties ...any) *jsonschema.Schema {
	s := &jsonschema.Schema{Type: "object", Properties: jsonschema.NewProperties(), AdditionalProperties: jsonschema.FalseSchema, Required: required}
	for i := 0; i < len(properties); i += 2 {
		s.Properties.Set(properties[i].(string), properties[i+1].(*jsonschema.Schema))
	}
	return s
}

func text() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }

func oneOf(schemas ...*jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{OneOf: schemas}
}

// JSONSchema: a level or privilege, a list of them, or one for each state.
func (Rights) JSONSchema() *jsonschema.Schema {
	list := oneOf(text(), texts())
	return oneOf(text(), texts(), object([]string{"installing", "running"}, "installing", list, "running", list))
}

// JSONSchema: exactly one of the four sources.
func (PasswordSource) JSONSchema() *jsonschema.Schema {
	return oneOf(object([]string{"file"}, "file", text()), object([]string{"env"}, "env", text()),
		object([]string{"command"}, "command", texts()),
		object([]string{"ask"}, "ask", &jsonschema.Schema{Type: "boolean", Const: true}))
}

// JSONSchema: a condition, or one with its severity.
func (Condition) JSONSchema() *jsonschema.Schema {
	severity := text()
	for _, s := range Severities {
		severity.Enum = append(severity.Enum, s)
	}
	return oneOf(&jsonschema.Schema{Type: "string"}, &jsonschema.Schema{Type: "number"}, &jsonschema.Schema{Type: "boolean"},
		object([]string{"want"}, "want", text(), "severity", severity))
}

// JSONSchema: a file's path, or the path with more.
func (Script) JSONSchema() *jsonschema.Schema {
	yes := &jsonschema.Schema{Type: "boolean"}
	return oneOf(text(), object([]string{"file"}, "file", text(), "into", text(), "encoding", text(), "prefix_token", text(),
		"retarget", yes, "map_collations", yes, "convert_charset", yes, "fast", yes))
}

// JSONSchema: databases by names of the administrator's own.
func (Databases) JSONSchema() *jsonschema.Schema {
	reflector := jsonschema.Reflector{FieldNameTag: "yaml", RequiredFromJSONSchemaTags: true, ExpandedStruct: true, Anonymous: true}
	one := reflector.Reflect(&Database{})
	one.Version = ""
	return &jsonschema.Schema{Type: "object", AdditionalProperties: one}
}

// JSONSchema: a value as text, number or boolean.
func (Variable) JSONSchema() *jsonschema.Schema {
	return oneOf(text(), &jsonschema.Schema{Type: "number"}, &jsonschema.Schema{Type: "boolean"})
}

// JSONSchema: addresses and what to write there.
func (Values) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "object", AdditionalProperties: oneOf(text(), &jsonschema.Schema{Type: "number"}, &jsonschema.Schema{Type: "boolean"})}
}

// JSONSchema: an octal mode.
func (Mode) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: octal.String()}
}

// JSONSchema: a number with d.
func (Days) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: daysText.String()}
}

// JSONSchema: a number of bytes, or one with K, M or G.
func (Size) JSONSchema() *jsonschema.Schema {
	return oneOf(&jsonschema.Schema{Type: "integer"}, &jsonschema.Schema{Type: "string", Pattern: sizeText.String()})
}
