#!/usr/bin/env bash
# Takes the pictures of docs/screenshots: each command is run on the demo site in
# a real terminal window of 1280x800.
#
# usage: scripts/screenshots.sh PROGRAM FOLDER
# Debian packages: xvfb xterm imagemagick fonts-dejavu-core chromium openssh-server
set -euo pipefail
program=$(realpath "${1:?usage: scripts/screenshots.sh PROGRAM FOLDER}")
folder=$(realpath "${2:?usage: scripts/screenshots.sh PROGRAM FOLDER}")
for tool in Xvfb xterm import chromium /usr/sbin/sshd; do
  command -v $tool >/dev/null || { echo "missing $tool: apt-get install xvfb xterm imagemagick fonts-dejavu-core chromium openssh-server" >&2; exit 2; }
done

stage=/tmp/ferry
[ ! -e "$stage" ] || { echo "$stage is in the way" >&2; exit 2; }
mkdir "$stage"
display=:$((RANDOM % 400 + 100))
Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
server=$!
site="" host=""
trap 'kill $server $site $host 2>/dev/null || true; rm -rf "$stage"' EXIT
ln -s "$program" "$stage/wetland"
export PATH="$stage:$PATH"
until [ -e "/tmp/.X11-unix/X${display#:}" ]; do sleep .1; done

# shot NAME COMMAND: the picture of a command, as it stands when it has ended.
shot() {
  local name=$1 command=$2 done_mark=$stage/$1.done
  DISPLAY=$display xterm -geometry "${COLUMNS_WANTED:-142x42}+0+0" -fullscreen -fa 'DejaVu Sans Mono' -fs "${SIZE:-11}" \
    -bg '#101418' -fg '#e6e6e6' +sb -xrm 'XTerm.vt100.allowTitleOps:false' -e bash -c "
      export TERM=xterm-256color; cd '$stage/demo/care' 2>/dev/null || cd '$stage'
      printf '\033[1m\$ %s\033[0m\n\n' '$command'; $command; touch '$done_mark'; sleep 60" &
  local window=$!
  until [ -e "$done_mark" ]; do sleep .1; done
  sleep .7
  DISPLAY=$display import -window root "$folder/$name.png"
  kill $window 2>/dev/null || true
  wait $window 2>/dev/null || true
}

SIZE=7 COLUMNS_WANTED=210x61 shot demo "wetland demo --dir demo"
rm -rf "$stage/demo"
"$program" demo --dir "$stage/demo" >/dev/null
rm -rf "$stage/demo/care"/{store,store-name,runs,rehearsals}
"$program" demo --dir "$stage/demo" --serve >/dev/null 2>&1 &
site=$!
address=$(sed -n 's/^address = "\(.*\)"/\1/p' "$stage/demo/site/rowlock.toml")
until "$program" smoke --quiet --workspace "$stage/demo/care" >/dev/null 2>&1; do sleep .2; done
printf 'a { color: teal; }\n' >> "$stage/demo/site/themes/harbourlight/style.css"
touch "$stage/demo/site/ferry-2025.sql"
shot survey "wetland survey"
shot examine "wetland examine harbourlight@3.0.0"
shot refused "wetland update harbourlight@2.5.0"
sed -i '$d' "$stage/demo/site/themes/harbourlight/style.css"
rm "$stage/demo/site/ferry-2025.sql"
shot rehearse "wetland rehearse tidetable@2.1.0"
shot update-kept "wetland update tidetable@2.0.0 --allow-major"
shot update-put-back "wetland update harbourlight@3.0.0 --allow-major --in-doubt back"
"$program" shelve "$stage/demo/packages/rowlock-4.0.0.zip" --workspace "$stage/demo/care" >/dev/null
shot update-core "wetland update rowlock@4.0.0 --allow-major"
rm -rf "$stage/demo/care/shelf/cores"
# The report of an update that a browser looked at, as a page.
sed -i 's/^browser = "none"/# &/' "$stage/demo/care/wetland.toml"
"$program" update harbourlight@3.0.0 --allow-major --in-doubt back --workspace "$stage/demo/care" >/dev/null 2>&1 || true
sed -i 's/^# \(browser = "none"\)/\1/' "$stage/demo/care/wetland.toml"
newest=$(ls -t "$stage"/demo/care/runs/*/report.html | head -1)
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1400 --screenshot="$folder/report.png" "file://$newest" >/dev/null 2>&1
"$program" restore enquiries@1.1.0 --workspace "$stage/demo/care" >/dev/null 2>&1
shot plan "wetland update --all --allow-major --plan"
shot culprit "wetland update --all --allow-major --search yes --in-doubt back"
# A theme that was broken on the live site; an older version was here before.
for version in 2.4.1 2.5.2; do "$program" restore harbourlight@$version --workspace "$stage/demo/care" >/dev/null 2>&1; done
sed -i 's/{{range .Notices}}/{{template "no-such-part" .}}&/' "$stage/demo/site/themes/harbourlight/notices.html"
shot return "wetland restore harbourlight@2.4.1"
"$program" restore harbourlight@2.5.2 --workspace "$stage/demo/care" >/dev/null 2>&1
shot shelf "wetland shelf"
shot restore "wetland restore snap-1 --yes"
"$program" tidy --yes --workspace "$stage/demo/care" >/dev/null
shot smoke "wetland smoke"
shot history "wetland history"
# An update that was killed, both of its processes, while the new version was in place.
setsid "$program" update "$stage/demo/packages/tidetable-2.1.0.zip" --allow-major --workspace "$stage/demo/care" >/dev/null 2>&1 &
update=$!
until grep -qs '"step":"swapped"' "$(ls -td "$stage"/demo/care/runs/run-*/ | head -1)journal.jsonl"; do :; done
kill -9 -- -$update
shot recover "wetland recover"
shot adopt "wetland adopt ../site --address $address --workspace ../second"

# The same site, as one on another machine: OpenSSH's server stands for that, under the name that the
# settings of ssh give it.
mkdir -p "$stage/ssh/home/.ssh"
ssh-keygen -q -t ed25519 -N '' -f "$stage/ssh/host"
ssh-keygen -q -t ed25519 -N '' -f "$stage/ssh/home/.ssh/id_ed25519"
cp "$stage/ssh/home/.ssh/id_ed25519.pub" "$stage/ssh/authorized"
port=$((RANDOM % 20000 + 20000))
cat >"$stage/ssh/settings" <<END
Port $port
ListenAddress 127.0.0.1
HostKey $stage/ssh/host
AuthorizedKeysFile $stage/ssh/authorized
PidFile none
UsePAM no
StrictModes no
PermitRootLogin prohibit-password
SetEnv XDG_CACHE_HOME=$stage/ssh/cache
END
printf 'Host ferry.example\n  HostName 127.0.0.1\n  Port %s\n  User %s\n  HostKeyAlias ferry.example\n' "$port" "$(id -un)" >"$stage/ssh/home/.ssh/config"
printf 'ferry.example %s\n' "$(cat "$stage/ssh/host.pub")" >"$stage/ssh/home/.ssh/known_hosts"
mkdir -p /run/sshd 2>/dev/null || true
/usr/sbin/sshd -D -f "$stage/ssh/settings" -E "$stage/ssh/log" &
host=$!
until ssh-keyscan -p "$port" 127.0.0.1 2>/dev/null | grep -q ssh-; do sleep .1; done
HOME=$stage/ssh/home shot adopt-by-ssh "wetland adopt ssh://ferry.example$stage/demo/site --address $address --workspace ../third --put-helper"
