// Package contract is generated from api/openapi.yaml: the types and routes of
// what the interface asks of the server. Regenerate it with make generate.
package contract
