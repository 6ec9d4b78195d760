#!/usr/bin/env bash
# Unpacks the WordPress of another Debian release into a folder, with its default themes.
# Debian's package points to libraries of other packages: they become real files.
# Nothing is installed.
#
# usage: scripts/fetch-wordpress.sh RELEASE FOLDER
set -euo pipefail
release=${1:?usage: scripts/fetch-wordpress.sh RELEASE FOLDER}
folder=${2:?}
[ -f "$folder/wp-includes/version.php" ] && exit 0

here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
. "$here/other-release.sh"
mkdir "$work/debs" "$work/out"
themes=$(apt-cache "${apt[@]}" pkgnames wordpress-theme-twenty)
libraries=$(apt-cache "${apt[@]}" depends wordpress | sed -n 's/.*Depends: \(libjs-.*\|libphp-.*\|php-getid3.*\)/\1/p' | sort -u)
(cd "$work/debs" && apt-get "${apt[@]}" download -qq wordpress $themes $libraries >&2)
for deb in "$work"/debs/*.deb; do dpkg -x "$deb" "$work/out"; done

site=$work/out/usr/share/wordpress
find "$site" -type l | while read -r link; do
  target=$(readlink "$link")
  case $target in
  /*) target=$work/out$target ;;
  *) target=$(dirname "$link")/$target ;;
  esac
  rm "$link"
  # What is not in these packages, such as the settings, is each test's own.
  [ ! -e "$target" ] || cp -rL "$target" "$link" 2>/dev/null || true
done
rm -f "$site/wp-config.php"
chmod -R u+rwX,go+rX "$site"
rm -rf "$folder"
mkdir -p "$(dirname "$folder")"
mv "$site" "$folder"
