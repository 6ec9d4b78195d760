#!/usr/bin/env bash
# Builds the archives of a release: Wetland for each system, with the helpers in it, and checksums.
# The version is the newest tag's. The same sources, on the same version of Go, give the same bytes.
#
#   release.sh FOLDER
set -euo pipefail
cd "$(dirname "$0")/.."
to=$1
version=$(git describe --tags --always --dirty)
stamp=$(git log -1 --format=%ct)
rm -rf "$to"
mkdir -p "$to"
for target in linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64; do
  os=${target%/*} arch=${target#*/}
  name=wetland-$version-$os-$arch
  program=wetland
  if [ "$os" = windows ]; then program=wetland.exe; fi
  mkdir "$to/$name"
  CGO_ENABLED=0 GOOS=$os GOARCH=$arch go build -buildvcs=true -trimpath -ldflags '-s -w' -o "$to/$name/$program" .
  cp README.md LICENSE "$to/$name/"
  tar --sort=name --owner=0 --group=0 --numeric-owner --mode=go-w --mtime="@$stamp" -C "$to" -c "$name" | gzip -9n >"$to/$name.tar.gz"
  rm -r "${to:?}/$name"
done
(cd "$to" && sha256sum ./*.tar.gz >SHA256SUMS)
ls -l "$to"
