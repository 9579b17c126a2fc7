#!/bin/sh
# Runs the detection table and prints what it came to; all of its output when
# it fails.
set -eu
log=$(mktemp)
trap 'rm -f "$log"' EXIT
if ! ${GO:-go} test ./app -run '^TestDetection$' -v >"$log" 2>&1; then
  cat "$log"
  exit 1
fi
grep -E '^(as it ships|renamed): detected|^ok' "$log"
