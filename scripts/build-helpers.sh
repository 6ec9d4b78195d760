#!/usr/bin/env bash
# Builds the helpers for the machines of sites, packed, where they are compiled into Wetland. The same
# sources give the same bytes.
#
#   build-helpers.sh [ARCHITECTURE...]    all, unless some are named
set -euo pipefail
cd "$(dirname "$0")/.."
to=core/sshhost/helpers/built
if [ $# -eq 0 ]; then set -- amd64 arm64; fi
for arch in "$@"; do
  at=$to/linux-$arch
  CGO_ENABLED=0 GOOS=linux GOARCH=$arch go build -buildvcs=false -trimpath -ldflags '-s -w' -o "$at.new" ./helper
  sum=$(sha256sum "$at.new")
  if [ -f "$at.gz" ] && [ "${sum%% *}" = "$(cat "$at.sha256")" ]; then rm "$at.new"; continue; fi
  gzip -9n <"$at.new" >"$at.gz"
  echo "${sum%% *}" >"$at.sha256"
  rm "$at.new"
done
