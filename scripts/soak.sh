#!/bin/bash
# The long tests, in parts of under an hour. A part goes on where it was stopped:
# what is done for this commit stands in .soak, and docs/soak.md is made from that.
#
#   make soak              all parts
#   make soak PART=fuzz    one of: mutation, fuzz, race, limiters, liars, detection
set -euo pipefail
cd "$(dirname "$0")/.."
go=${GO:-go}
commit=$(git rev-parse --short HEAD)
dir=.soak/$commit
mkdir -p "$dir"
unset MILLGATE_DRAW
ends=$(($(date +%s) + 55 * 60))

# step NAME COMMAND...: runs what was not done yet, and keeps the line that it prints
# last on descriptor 3.
step() {
  local name=$1
  shift
  [ -f "$dir/$name" ] && { echo "done before: $(cat "$dir/$name")"; return; }
  [ "$(date +%s)" -lt "$ends" ] || { echo "the hour is over: run it again to go on"; exit 0; }
  local from result
  from=$(date +%s)
  if ! "$@" </dev/null >"$dir/$name.log" 2>&1; then
    tail -60 "$dir/$name.log"
    echo "FAILED: $name; all of it is in $dir/$name.log"
    exit 1
  fi
  result=$(summary "$name")
  echo "$name | $result | $(($(date +%s) - from)) s" >"$dir/$name.new"
  mv "$dir/$name.new" "$dir/$name"
  cat "$dir/$name"
}

summary() {
  case $1 in
  fuzz-*) grep -oE 'execs: [0-9]+' "$dir/$1.log" | tail -1 ;;
  limiters-models) grep -oE "[0-9]+ drills in .*" "$dir/$1.log" | tail -1 ;;
  limiters-*)
    echo "$(grep -cE ' calls +[0-9.]+ s  ' "$dir/$1.log") limiters, $(grep -c 'stood still' "$dir/$1.log" || true)" \
      "disturbed, $(grep -cE 'was not found out with|more time would tell' "$dir/$1.log" || true) unsure, none wrong"
    ;;
  mutation-*) tail -1 "$dir/$1.log" ;;
  race-*) echo "$(grep -cE '^ok' "$dir/$1.log") packages, no race" ;;
  liars-*) echo "20 rounds, the same said in each" ;;
  detection-*) grep -E '^(as it ships|renamed): detected' "$dir/$1.log" | tr '\n' ';' ;;
  esac
}

fuzz() {
  while read -r package target; do
    step "fuzz-${package//\//-}-$target" $go test "./$package" -run '^$' -fuzz "^$target\$" -fuzztime ${FUZZTIME:-90s} -fuzzminimizetime 1x
  done <<'LIST'
core/declaration FuzzParse
core/declaration/layout FuzzPutTarget
core/declaration/layout FuzzPlaces
core/declaration/layout FuzzFormat
core/route FuzzSelector
core/token FuzzDecodeAndJudge
core/check/answers FuzzCheckAnswer
core/origin FuzzPages
format/tokenfile FuzzEach
format/openapi FuzzRead
format/har FuzzRead
format/accesslog FuzzRead
LIST
}

# Conditions that nothing holds: of 30 that are flipped, the tests must notice 27.
mutation() {
  (cd scripts/mutate && $go build -o ../../bin/mutate .)
  for seed in 1 2 3; do
    step "mutation-$seed" bin/mutate -seed "$seed" -with core/check/families,core/session \
      core/check core/check/answers core/check/credential core/check/crossing core/check/detour core/check/issued core/check/logins core/check/malformed core/check/pages core/check/quotas core/check/raised core/check/sessions core/check/undeclared core/finding core/mask
  done
}

# What runs beside something else, with the race detector.
race() {
  step race-core $go test -race -count 1 -timeout 30m ./core/check/... ./core/mask ./store ./wire ./server ./standin
  # In processes of their own: the race detector keeps some 20 kB of each script that ever ran.
  local half # in halves, for the memory that takes; the sound service is #00
  for half in a-k l-z#; do
    step "race-app-ships-${half%#}" $go test -race -count 1 -timeout 55m \
      -run "^TestDetection\$/^as_it_ships\$/^[$half]" ./app
    step "race-app-renamed-${half%#}" $go test -race -count 1 -timeout 55m \
      -run "^TestDetection\$/^renamed\$/^[$half]" ./app
  done
  step race-app-rest $go test -race -count 1 -timeout 55m -skip '^TestDetection$' ./app/...
}

limiters() {
  step limiters-models env MILLGATE_MATRIX=all $go test ./core/quota -run '^TestNothingFalseIsSaid$' -count 1 -timeout 30m -v
  for round in 1 2 3; do
    step "limiters-$round" $go test ./app -run '^TestLimiterMatrix$' -count 1 -timeout 30m -v
  done
}

# As it ships and renamed, beside each other: one alone leaves a processor idle.
detect() {
  local fails=0
  (cd app && exec ../bin/app.test -test.run '^TestDetection$/^as_it_ships$' -test.timeout 50m) &
  local ships=$!
  (cd app && exec ../bin/app.test -test.run '^TestDetection$/^renamed$' -test.timeout 50m) || fails=1
  wait "$ships" || fails=1
  return $fails
}

# record writes the steps that are done into docs/soak.md; one that was not run for this
# commit keeps its row.
record() {
  {
    sed '/^| step/,$d' docs/soak.md
    echo "| step | counts | time | at |"
    echo "| --- | --- | --- | --- |"
    {
      find "$dir" -maxdepth 1 -type f ! -name '*.log' ! -name '*.new' | sort | xargs -r cat | sed "s/^/| /; s/\$/ | $commit |/"
      sed -n '/^| --- /,$p' docs/soak.md | grep '^| [a-z]' || true
    } | awk '!seen[$2]++' | sort -V
  } >"$dir/soak.md.new"
  mv "$dir/soak.md.new" docs/soak.md
}

busy=()
at_end() {
  kill "${busy[@]}" 2>/dev/null || true
  record
}
trap at_end EXIT

detection() {
  $go test -c -o bin/app.test ./app
  for _ in 1 2 3 4; do
    (while :; do :; done) &
    busy+=($!)
  done
  for round in 1 2 3 4 5 6 7 8 9 10; do
    step "detection-$round" detect
  done
}

# What lies does so each time: none of its claims may be said in one round and not in another.
liars() {
  for _ in 1 2 3 4; do
    (while :; do :; done) &
    busy+=($!)
  done
  step liars-20 $go test ./app -run '^TestLiars$|^TestHostileServicesAreStopped$' -count 20 -timeout 90m
}

for part in ${PART:-mutation fuzz race limiters liars detection}; do
  case $part in
  mutation | fuzz | race | limiters | liars | detection) $part ;;
  *) echo "PART is mutation, fuzz, race, limiters, liars or detection, not $part" >&2; exit 2 ;;
  esac
done
