#!/bin/sh
# Builds what is given out: an archive of the program for each platform, and their checksums, in release/.
# SQLite's driver is C, so that another processor needs its compiler (decision 61). Nothing that a build
# does not decide itself goes in: the same commit gives the same archives.
set -eu
version=${VERSION:-}
[ -n "$version" ] || version=$(git describe --tags --always --dirty)
stamp=$(git log -1 --format=%ct)
go=${GO:-go}
out=release
. "$(dirname "$0")/install.sh"
need() { # a compiler, and the packages that have it
  command -v "$1" >/dev/null 2>&1 && return 0
  shift
  install "A release needs" "$@"
}
rm -rf "$out"
mkdir -p "$out"
host=$($go env GOHOSTARCH)
for arch in amd64 arm64; do
  case $arch in
  "$host") cc=gcc ;;
  arm64) cc=aarch64-linux-gnu-gcc && need $cc gcc-aarch64-linux-gnu libc6-dev-arm64-cross ;;
  amd64) cc=x86_64-linux-gnu-gcc && need $cc gcc-x86-64-linux-gnu libc6-dev-amd64-cross ;;
  esac
  name=millgate-$version-linux-$arch
  mkdir -p "$out/$name"
  echo "Building $name"
  # Linked as a whole, so that it runs whatever C library the machine has.
  CGO_ENABLED=1 GOOS=linux GOARCH=$arch CC=$cc $go build -trimpath -tags "netgo osusergo sqlite_omit_load_extension" \
    -ldflags "-s -w -X main.version=$version -linkmode external -extldflags -static" -o "$out/$name/millgate" ./cmd/millgate
  cp LICENSE README.md "$out/$name/"
  cp -R docs "$out/$name/docs"
  tar --sort=name --mtime="@$stamp" --owner=0 --group=0 --numeric-owner -C "$out" -cf - "$name" | gzip -n -9 >"$out/$name.tar.gz"
  rm -rf "${out:?}/$name"
done
(cd "$out" && sha256sum ./*.tar.gz | sed 's|\./||' >SHA256SUMS && cat SHA256SUMS)
