#!/usr/bin/env bash
# Sets up what the tests against real servers need, from Debian's packages: the
# database server, PHP, and WordPress unpacked into a folder. Does nothing that is
# done already. No service is installed or started on this machine.
#
# usage: scripts/setup-test.sh FOLDER      the tests find it as WETLAND_TEST_SERVERS
set -euo pipefail
folder=${1:?usage: scripts/setup-test.sh FOLDER}

if ! command -v apt-get >/dev/null; then
  echo "setup-test: no apt-get here: tests against real servers will be skipped" >&2
  exit 0
fi
as_root() { if [ "$(id -u)" = 0 ]; then "$@"; elif command -v sudo >/dev/null; then sudo "$@"; else return 1; fi; }

# The -core packages hold the server without a service that would be started.
packages="mariadb-server-core mariadb-client-core php-cli php-mysql php-xml php-mbstring php-gd php-curl php-zip zstd sqlite3 chromium xvfb"
# OpenSSH's server comes with a service. Where services run, only one that is there already is used.
[ -x /usr/sbin/sshd ] || [ -d /run/systemd/system ] || packages="$packages openssh-server"
missing=""
for p in $packages; do dpkg -s "$p" >/dev/null 2>&1 || missing="$missing $p"; done
if [ -n "$missing" ]; then
  echo "setup-test: installing$missing" >&2
  export DEBIAN_FRONTEND=noninteractive
  # This keeps what comes with a service from starting it.
  policy=/usr/sbin/policy-rc.d ours=""
  [ -e "$policy" ] || { as_root sh -c "printf '#!/bin/sh\nexit 101\n' >$policy && chmod 755 $policy" && ours=yes; } || true
  installed=yes
  if ! { as_root apt-get update -qq && as_root apt-get install -y -qq --no-install-recommends $missing; } >&2; then
    installed=""
  fi
  [ -z "$ours" ] || as_root rm -f "$policy"
  if [ -z "$installed" ]; then
    echo "setup-test: could not install them: tests against real servers will be skipped" >&2
    exit 0
  fi
fi

# Servers of other releases, which have another MariaDB, and MySQL.
here=$(cd "$(dirname "$0")" && pwd)
fetch() {
  "$here/fetch-servers.sh" "$@" || echo "setup-test: ${*: -1} of $1 could not be had: its tests will be skipped" >&2
}
fetch trixie "$folder/mariadb" mariadb-client-core mariadb-server-core &
fetch sid "$folder/mysql" mysql-client-core mysql-server-core &
# A newer WordPress on a newer PHP, and the default themes of other releases.
fetch trixie "$folder/php" php-cli php-mysql php-mbstring php-xml &
"$here/fetch-wordpress.sh" sid "$folder/wordpress-new" || echo "setup-test: the newest WordPress could not be had: its tests will be skipped" >&2 &
# Releases of WordPress that are brought in one after the other.
for release in bullseye trixie; do
  "$here/fetch-wordpress.sh" "$release" "$folder/wordpress-$release" || echo "setup-test: the WordPress of $release could not be had: its tests will be skipped" >&2 &
done
for release in bullseye bookworm trixie sid; do
  "$here/fetch-themes.sh" "$release" "$folder/themes" || echo "setup-test: the themes of $release could not be had: their tests will be skipped" >&2 &
done
wait

[ -f "$folder/wordpress/wp-includes/version.php" ] && [ -f "$folder/servers/etc/nginx/mime.types" ] && exit 0
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$folder"
cd "$work"
debs="wordpress wordpress-theme-twentytwentyone wordpress-theme-twentytwentytwo wordpress-theme-twentytwentythree libjs-underscore"
if ! apt-get download $debs >/dev/null 2>&1; then
  as_root apt-get update -qq >&2 || true
  apt-get download $debs >/dev/null 2>&1 || { echo "setup-test: WordPress could not be had: its tests will be skipped" >&2; exit 0; }
fi
# nginx and php-fpm are only unpacked: installed, their services would be started.
pool=$(apt-cache depends php-fpm | sed -n 's/.*Depends: \(php[0-9.]*-fpm\).*/\1/p' | head -1)
mkdir servers
if (cd servers && apt-get download nginx nginx-common "$pool" >/dev/null 2>&1); then
  for deb in servers/*.deb; do dpkg -x "$deb" servers/out; done
  rm -rf "$folder/servers"
  mv servers/out "$folder/servers"
else
  echo "setup-test: nginx and php-fpm could not be had: their tests will be skipped" >&2
fi

for deb in *.deb; do dpkg -x "$deb" out; done
site=out/usr/share/wordpress
# The packages point into /etc and /usr/share: what pages load becomes a real
# file, the rest is not needed here, and the settings are each test's own.
for js in underscore.js underscore.min.js; do
  rm -f "$site/wp-includes/js/$js"
  cp "out/usr/share/javascript/underscore/$js" "$site/wp-includes/js/$js"
done
find "$site" -type l -delete
rm -f "$site/wp-config.php"
chmod -R u+rwX,go+rX "$site"
rm -rf "$folder/wordpress.part"
cp -a "$site" "$folder/wordpress.part"
rm -rf "$folder/wordpress"
mv "$folder/wordpress.part" "$folder/wordpress"
