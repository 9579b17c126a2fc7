#!/bin/sh
# Makes sure that Chromium is there for the browser tests, and nginx as one of
# the limiters that are told from outside.
set -eu
need=""
command -v chromium >/dev/null 2>&1 || command -v chromium-browser >/dev/null 2>&1 || command -v google-chrome >/dev/null 2>&1 || need="chromium"
command -v nginx >/dev/null 2>&1 || [ -x /usr/sbin/nginx ] || need="$need nginx-light"
if [ -z "$need" ]; then exit 0; fi
if ! command -v apt-get >/dev/null 2>&1; then
  echo "The tests need $need, and this is not a Debian system: install it so that it is on the PATH." >&2
  exit 1
fi
sudo=""
if [ "$(id -u)" != 0 ]; then
  if ! command -v sudo >/dev/null 2>&1; then
    echo "The tests need $need. Install it as root: apt-get install $need" >&2
    exit 1
  fi
  sudo=sudo
fi
echo "Installing $need from Debian's packages for the tests"
$sudo apt-get update -qq && $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $need >/dev/null || {
  echo "$need could not be installed. Install it yourself: apt-get install $need" >&2
  exit 1
}
