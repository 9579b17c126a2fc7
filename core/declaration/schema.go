package declaration

import _ "embed"

// Schema is the JSON Schema (2020-12) of the language. What it accepts has the
// form of a declaration; whether names and routes fit together only Parse can
// say.
//
//go:embed declaration.schema.json
var Schema []byte
