#!/bin/sh
# Counts lines that are not blank: code, and which part of it is tests.
set -eu
count() { [ -z "$1" ] && { echo 0; return; }; echo "$1" | tr '\n' '\0' | xargs -0 cat | grep -cve '^[[:space:]]*$'; }
all=$(git ls-files '*.go' '*.ts' '*.vue' '*.css' | grep -vE '\.gen\.' || true)
tests=$(echo "$all" | grep -E '_test\.go$|\.test\.ts$|^e2e/' || true)
n=$(count "$all"); t=$(count "$tests")
echo "$n lines of code, $t of them tests ($((100 * t / n))%)"
for d in core app wire store format standin server cmd web e2e; do
  l=$(echo "$all" | grep "^$d/" || true)
  printf '  %-8s %s\n' "$d" "$(count "$l")"
done
