package httpapi

import (
	"github.com/danielgtaylor/huma/v2"

	"candidharbor/api"
)

// describe puts into the document what fields and parameters are, where that stands apart from them.
func describe(doc *huma.OpenAPI) {
	for name, schema := range doc.Components.Schemas.Map() {
		for field, text := range api.Descriptions[name] {
			if property := schema.Properties[field]; property != nil {
				property.Description = text
			}
		}
	}
	for _, path := range doc.Paths {
		for _, op := range []*huma.Operation{path.Get, path.Put, path.Post, path.Delete, path.Patch} {
			if op == nil {
				continue
			}
			for _, p := range op.Parameters {
				if text := api.Descriptions[op.OperationID][p.Name]; text != "" {
					p.Description, p.Schema.Description = text, text
				}
			}
		}
	}
}
