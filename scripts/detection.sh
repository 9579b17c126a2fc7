#!/bin/sh
# Runs the detection table and the limiter matrix by themselves and prints what
# they came to; all of their output when they fail. The matrix measures times, so
# that nothing else should run beside it.
set -eu
log=$(mktemp)
trap 'rm -f "$log"' EXIT
if ! ${GO:-go} test ./app -run '^TestDetection$' -v >"$log" 2>&1; then
  cat "$log"
  exit 1
fi
grep -E '^(as it ships|renamed): detected|^ok' "$log"
if ! ${GO:-go} test ./app -run '^TestLimiterMatrix$' -parallel 6 -v >"$log" 2>&1; then
  cat "$log"
  exit 1
fi
grep -E ' calls +[0-9.]+ s  |^ok' "$log"
