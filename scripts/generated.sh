#!/bin/sh
# Fails when generated code differs from what the contract gives.
set -eu
tmp=$(mktemp -d)
trap 'rm -rf "$tmp"' EXIT
sed "s#^output:.*#output: $tmp/contract.gen.go#" api/oapi-codegen.yaml > "$tmp/config.yaml"
${GO:-go} tool oapi-codegen -config "$tmp/config.yaml" api/openapi.yaml
(cd api/tools && npx --no-install openapi-typescript ../openapi.yaml -o "$tmp/contract.gen.ts" >/dev/null)
for pair in "server/contract/contract.gen.go $tmp/contract.gen.go" "web/src/api/contract.gen.ts $tmp/contract.gen.ts"; do
  set -- $pair
  if ! cmp -s "$1" "$2"; then
    echo "$1 is not what api/openapi.yaml gives; run make generate" >&2
    exit 1
  fi
done
