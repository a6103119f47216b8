package cli

import (
	"os"

	"github.com/spf13/cobra"

	"yellowfield/internal/estate"
)

func newJSONSchemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "json-schema",
		Short:   "The JSON Schema of the estate file, for editors",
		GroupID: groupTooling,
		Example: "  yellowfield json-schema > yellowfield.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			schema, err := estate.JSONSchema()
			if err == nil {
				_, err = os.Stdout.Write(schema)
			}
			return err
		},
	}
}
