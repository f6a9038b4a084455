#!/usr/bin/env bash
# Runs tests/Domain.Tests on a network of its own, with a folder for its domain. BUILT is how they were built, unless for developers. Arguments go to the tests.
ROOT=$(cd "$(dirname "$(readlink -f "$0")")/.." && pwd)
. "$ROOT/.ci/common.sh"; . "$ROOT/.ci/domain.sh"
DOMAIN=$(mktemp -d) DC=127.0.53.1 NS=127.0.53.2
trap 'rm -rf "$DOMAIN"' EXIT
need_domain
domain_files "127.0.53.10 beacon.thistledown.example"
BEACON_DOMAIN=$DOMAIN "$ROOT/.ci/in-domain.sh" "$DOMAIN" "$ROOT/tests/Domain.Tests/bin/${BUILT:-Debug}/net10.0/OrderlyBeacon.Domain.Tests" "$@"
