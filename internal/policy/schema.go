package policy

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of a policy document, for editors. Parse
// decides; the schema is never stricter, and cannot see all that Parse does.
//
//go:embed schema.json
var Schema []byte
