#!/bin/sh
# Runs all tests in parts, the short ones first, and prints how long each took.
# Tables that grow are tried by a draw, which the commit decides; make soak has all.
set -u
MILLGATE_DRAW=${MILLGATE_DRAW:-$(git rev-parse HEAD 2>/dev/null || echo none)}
export MILLGATE_DRAW
go=${GO:-go}
times=""
part() {
  name=$1
  shift
  from=$(date +%s)
  if ! "$@"; then
    echo "FAILED: $name after $(($(date +%s) - from)) s"
    exit 1
  fi
  times="$times
$(printf '%6d s  %s' $(($(date +%s) - from)) "$name")"
}
part "the logic of the interface" sh -c "cd web && npm run --silent test"
part "layout, store, wire, stand-in, formats" $go test -count 1 -timeout 5m . ./store ./wire ./standin ./testkit/... ./format/...
# The longest first, so that the processors have something to do to the end.
part "core, server and commands" $go test -count 1 -timeout 8m ./core/quota ./cmd/... ./core/... ./server/...
part "use cases, detection and limiters (draw $(printf %.8s "$MILLGATE_DRAW"))" $go test -count 1 -timeout 12m ./app/...
# Its tests wait for sweeps more than they work.
part "the interface in Chromium" $go test -count 1 -parallel 4 -timeout 12m ./e2e
echo "$times"
