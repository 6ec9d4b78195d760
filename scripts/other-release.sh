# To be read by scripts that have set release and work: sets apt to the options with which
# apt-get and apt-cache know that Debian release alone, as if nothing were installed.
mkdir -p "$work"/lists/partial "$work"/cache/archives/partial
echo "deb http://deb.debian.org/debian $release main" >"$work/sources.list"
: >"$work/status" # all libraries come along
# The release file of sid is short-lived, and a mirror may lag behind.
apt=(-o "Dir::Etc::sourcelist=$work/sources.list" -o Dir::Etc::sourceparts=- -o "Dir::State::lists=$work/lists"
  -o "Dir::Cache=$work/cache" -o "Dir::State::status=$work/status" -o Acquire::Check-Valid-Until=false
  -o Acquire::Languages=none -o Acquire::IndexTargets::deb::DEP-11::DefaultEnabled=false
  -o Acquire::IndexTargets::deb::Contents-deb::DefaultEnabled=false -o APT::Sandbox::User=root)
apt-get "${apt[@]}" update -qq >&2
