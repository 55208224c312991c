#!/bin/bash
# Tries this repository as somebody new does: on a bare Debian that is made from
# packages in a folder, with Go and nothing else. It takes the time, the processor
# time and the disk that the first answered curl costs, with empty caches, and what
# the second start costs; with "test" it runs all tests there too.
#
#   scripts/fresh.sh [demo|test] [FOLDER] [REVISION]
#
# It runs as root on Debian, and uses the sources of packages and modules that this
# machine is set up for.
set -euo pipefail
what=${1:-demo} root=${2:-/tmp/fresh} revision=${3:-HEAD}
here=$(cd "$(dirname "$0")/.." && pwd)

[ "$(id -u)" = 0 ] || { echo "fresh.sh: it makes a root for chroot, so run it as root" >&2; exit 1; }
command -v debootstrap >/dev/null || apt-get install -y -qq debootstrap

say() { printf '%s\n' "-- $*"; }
inside() { chroot "$root" env -i PATH=/usr/local/go/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/root TERM=dumb "${settings[@]}" "$@"; }

# What says where packages and modules come from is taken over.
settings=()
for name in GOPROXY GONOSUMDB GONOSUMCHECK GOSUMDB GOFLAGS_PROXY NPM_CONFIG_REGISTRY npm_config_registry http_proxy https_proxy HTTP_PROXY HTTPS_PROXY no_proxy NO_PROXY SSL_CERT_FILE NODE_EXTRA_CA_CERTS; do
  [ -z "${!name:-}" ] || settings+=("$name=${!name}")
done
for name in GOPROXY GOSUMDB GONOSUMDB; do
  settings+=("$name=$(go env "$name")")
done

if [ ! -x "$root/bin/sh" ]; then
  say "making a bare Debian in $root"
  mirror=$(apt-get indextargets --format '$(REPO_URI)' 'Created-By: Packages' | head -1)
  . /etc/os-release
  debootstrap --variant=minbase --include=ca-certificates,curl,procps "$VERSION_CODENAME" "$root" "$mirror" >/dev/null
  rm -rf "$root/etc/apt/sources.list" "$root"/etc/apt/sources.list.d/*
  cp -rL /etc/apt/. "$root/etc/apt/" 2>/dev/null || true
  [ ! -d /usr/local/share/ca-certificates ] || cp -r /usr/local/share/ca-certificates "$root/usr/local/share/"
  cp -r /etc/ssl/certs/. "$root/etc/ssl/certs/" 2>/dev/null || true
  [ ! -e ~/.npmrc ] || cp ~/.npmrc "$root/root/"
  cp -r "$(go env GOROOT)" "$root/usr/local/go"
fi
cp /etc/resolv.conf /etc/hosts "$root/etc/"
mountpoint -q "$root/proc" || mount -t proc proc "$root/proc"
mountpoint -q "$root/dev" || mount --rbind /dev "$root/dev"
trap 'umount -l "$root/proc" "$root/dev" 2>/dev/null || true' EXIT

say "the repository, as it is at $revision"
rm -rf "$root/src" "$root/root/.cache" "$root/root/go"
git clone -q --no-hardlinks "$here" "$root/src"
git -C "$root/src" checkout -q "$(git -C "$here" rev-parse "$revision")"
usage() { du -sm "$root/root" "$root/src" | awk '{ n += $1 } END { print n " MB" }'; }

say "downloading the modules, which is not counted"
inside sh -c 'cd /src && go mod download' 2>/dev/null || true

# waited: starts the example, and waits for the first answer.
waited() {
  local started=$(date +%s%N)
  inside sh -c "cd /src && exec $1" >"$root/out" 2>&1 &
  local job=$!
  until inside curl -fs localhost:8080/api/hives?limit=1 >/dev/null 2>&1; do
    kill -0 $job 2>/dev/null || { say "it ended:"; tail -20 "$root/out"; return 1; }
    sleep 0.2
  done
  say "$2: the first curl is answered after $((($(date +%s%N) - started) / 1000000)) ms"
  pkill -TERM -P $job || true
  pkill -TERM -f 'bin/beekeeping' || true
  wait $job || true
}

case $what in
demo)
  command=${DEMO:-./run demo}
  TIMEFORMAT='%U s user, %S s system'
  { time waited "$command" "empty caches"; } 2>&1
  say "disk: $(usage)"
  say "the first lines:"
  head -12 "$root/out"
  waited "$command" "warm"
  ;;
test)
  inside sh -c 'cd /src && DEBIAN_FRONTEND=noninteractive CI=true ./run test --install' 2>&1
  ;;
esac
