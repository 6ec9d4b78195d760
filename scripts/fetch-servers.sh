#!/usr/bin/env bash
# Unpacks servers of another Debian release into a folder, with all the libraries that they
# need: their own loader starts them (FOLDER/run PROGRAM), and this machine's system stays as
# it is. Nothing is installed; neither root nor chroot is needed.
#
# usage: scripts/fetch-servers.sh RELEASE FOLDER PACKAGE...
set -euo pipefail
release=${1:?usage: scripts/fetch-servers.sh RELEASE FOLDER PACKAGE...}
folder=${2:?}
shift 2
[ -x "$folder/run" ] && exit 0

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
. "$(cd "$(dirname "$0")" && pwd)/other-release.sh"
mkdir "$work/debs" "$work/out"
needed=$(apt-cache "${apt[@]}" depends --recurse --no-recommends --no-suggests --no-conflicts --no-breaks --no-replaces --no-enhances "$@" |
  grep -E '^[a-z0-9]' | grep -vE '^(perl|libperl|libdb5|libgdbm|debconf|mysql-common|mariadb-common|dpkg|tar|libudev)' | sort -u)
(cd "$work/debs" && apt-get "${apt[@]}" download -qq $needed >&2)
for deb in "$work"/debs/*.deb; do dpkg -x "$deb" "$work/out"; done
rm -rf "$work"/out/usr/share/{doc,man,locale,lintian,icons}

loader=$(cd "$work/out" && find . -name 'ld-linux*.so.*' | head -1)
triplet=$(cd "$work/out/usr/lib" && ls -d ./*-linux-gnu* | head -1)
# A folder may be moved, so that the script asks where it is.
cat >"$work/out/run" <<SCRIPT
#!/bin/sh
# usage: run PROGRAM ARGUMENT...    such as: run usr/sbin/mysqld --version
here=\$(cd "\$(dirname "\$0")" && pwd)
program=\$1
shift
lib=\$here/usr/lib/${triplet#./}
exec "\$here/${loader#./}" --library-path "\$lib:\$here/lib/${triplet#./}:\$lib/mysql:\$lib/mysql/private" "\$here/\$program" "\$@"
SCRIPT
chmod +x "$work/out/run"
rm -rf "$folder"
mkdir -p "$(dirname "$folder")"
mv "$work/out" "$folder"
