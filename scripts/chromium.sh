#!/bin/sh
# Makes sure that Chromium is there for the browser tests, and nginx as one of
# the limiters that are told from outside.
set -eu
need=""
command -v chromium >/dev/null 2>&1 || command -v chromium-browser >/dev/null 2>&1 || command -v google-chrome >/dev/null 2>&1 || need="chromium"
command -v nginx >/dev/null 2>&1 || [ -x /usr/sbin/nginx ] || need="$need nginx-light"
if [ -z "$need" ]; then exit 0; fi
. "$(dirname "$0")/install.sh"
# shellcheck disable=SC2086 # a list of names
install "The tests need" $need
