#!/usr/bin/env bash
# in-domain.sh DIR COMMAND...: runs a command on a network of its own (loopback alone, so that the usual ports are free) where the names of Thistledown Rail lead to it.
# DIR/hosts is its hosts file. With --same-network before DIR only the names are its own.
set -euo pipefail
NET=--net
[ "$1" != --same-network ] || { NET=; shift; }
DIR=$(readlink -f "$1"); shift
[ "$(id -u)" = 0 ] || { echo "A domain of its own wants root: it has a network and names of its own." >&2; exit 2; }
exec unshare --mount $NET -- bash -c '
  [ -z "$0" ] || ip link set lo up
  mount --bind "$1/hosts" /etc/hosts; mount --bind "$1/resolv.conf" /etc/resolv.conf
  shift; exec "$@"' "$NET" "$DIR" "$@"
