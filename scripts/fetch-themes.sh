#!/usr/bin/env bash
# Unpacks the default themes of WordPress from another Debian release into FOLDER/RELEASE, each
# in a folder of its name. Nothing is installed.
#
# usage: scripts/fetch-themes.sh RELEASE FOLDER
set -euo pipefail
release=${1:?usage: scripts/fetch-themes.sh RELEASE FOLDER}
folder=${2:?}/$release
[ -d "$folder" ] && exit 0

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
. "$(cd "$(dirname "$0")" && pwd)/other-release.sh"
mkdir "$work/debs" "$work/out" "$work/themes"
(cd "$work/debs" && apt-get "${apt[@]}" download -qq $(apt-cache "${apt[@]}" pkgnames wordpress-theme-twenty) >&2)
for deb in "$work"/debs/*.deb; do dpkg -x "$deb" "$work/out"; done
find "$work/out" -path '*/themes/*' -name style.css | while read -r sheet; do
  at=$(dirname "$sheet")
  [ "$(basename "$(dirname "$at")")" != themes ] || cp -r "$at" "$work/themes/"
done
find "$work/themes" -type l -delete
chmod -R u+rwX,go+rX "$work/themes"
mkdir -p "$(dirname "$folder")"
mv "$work/themes" "$folder"
