#!/bin/sh
# Makes sure that Chromium is there for the browser tests.
set -eu
for c in chromium chromium-browser google-chrome; do
  if command -v "$c" >/dev/null 2>&1; then exit 0; fi
done
if ! command -v apt-get >/dev/null 2>&1; then
  echo "The browser tests need Chromium, and this is not a Debian system: install Chromium so that 'chromium' is on the PATH." >&2
  exit 1
fi
sudo=""
if [ "$(id -u)" != 0 ]; then
  if ! command -v sudo >/dev/null 2>&1; then
    echo "The browser tests need Chromium. Install it as root: apt-get install chromium" >&2
    exit 1
  fi
  sudo=sudo
fi
echo "Installing Chromium from Debian's packages for the browser tests"
$sudo apt-get update -qq && $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null || {
  echo "Chromium could not be installed. Install it yourself: apt-get install chromium" >&2
  exit 1
}
