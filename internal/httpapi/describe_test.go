package httpapi

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"candidharbor/api"
)

// Each description is of something that the document has, and is in it.
func TestDescriptions(t *testing.T) {
	type described struct{ Name, Description string }
	var doc struct {
		Components struct {
			Schemas map[string]struct{ Properties map[string]described }
		}
		Paths map[string]map[string]struct {
			OperationID string
			Parameters  []described
		}
	}
	spec, err := Spec()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(spec, &doc))
	got := map[string]map[string]described{}
	for name, schema := range doc.Components.Schemas {
		got[name] = schema.Properties
	}
	for _, ops := range doc.Paths {
		for _, op := range ops {
			got[op.OperationID] = map[string]described{}
			for _, p := range op.Parameters {
				got[op.OperationID][p.Name] = p
			}
		}
	}
	for of, fields := range api.Descriptions {
		for field, text := range fields {
			require.Equal(t, text, got[of][field].Description, "%s.%s", of, field)
		}
	}
}
