# Shared by demo, check, bench and beacon. Source it with ROOT set to the checkout.
set -euo pipefail
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1 MSBUILDDISABLENODEREUSE=1
OUT="$ROOT/out"

say() { printf '%s\n' "$*" >&2; }
die() { say "$*"; exit 2; }

# What was told to stop has not stopped yet: gone PID says whether it has, all_gone PID... waits for it, 8 s for each.
gone() { [ ! -e "/proc/$1/stat" ] || grep -q ') Z ' "/proc/$1/stat" 2>/dev/null; }
all_gone() { local pid; for pid in "$@"; do for _ in $(seq 80); do gone "$pid" && break; sleep 0.1; done; done; }

# Debian's packages are noted first and then brought all at once: each call of apt-get reads all lists anew.
# wants PROGRAM PACKAGE...: notes packages whose program is missing. wants_file PACKAGE FILE...: notes a package of whose files none is there.
WANTED=() BRINGING=
wants() { while [ $# -gt 0 ]; do [ -x "$(command -v "$1" || true)" ] || [ -x "/usr/sbin/$1" ] || WANTED+=("$2"); shift 2; done; }
wants_file() { local package=$1 file; shift; for file in "$@"; do [ ! -e "$file" ] || return 0; done; WANTED+=("$package"); }
may_bring() { [ ${#WANTED[@]} -eq 0 ] || [ "$(id -u)" = 0 ] || die "Missing: ${WANTED[*]}. Install them: sudo apt-get install --no-install-recommends ${WANTED[*]}"; }
# bring: installs what was noted. bring_beside: the same beside whatever is done next; brought waits for it.
bring() {
  local missing=("${WANTED[@]}")
  may_bring
  WANTED=()
  [ ${#missing[@]} -gt 0 ] || return 0
  say "Installing from Debian's packages: ${missing[*]}"
  apt-get update -qq >/dev/null 2>&1 || die "apt-get update failed; the packages ${missing[*]} are needed."
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends -o DPkg::Lock::Timeout=600 "${missing[@]}" >"${TMPDIR:-/tmp}/beacon-apt.log" 2>&1 \
    || die "apt-get could not install ${missing[*]}: $(tail -n 3 "${TMPDIR:-/tmp}/beacon-apt.log")"
}
bring_beside() { may_bring; bring & BRINGING=$!; WANTED=(); }
brought() { [ -z "$BRINGING" ] || wait "$BRINGING" || exit 2; BRINGING=; }
need() { wants "$@"; bring; }

# wants_provider: SimpleSAMLphp and what runs it.
wants_provider() {
  wants php php-cli
  wants_file simplesamlphp /usr/share/simplesamlphp/www
  wants_file php-fpm /usr/sbin/php-fpm*
  # Behind a pipe grep reads to the end (no -q): whoever still writes when it goes is killed, and pipefail takes that for "not found".
  for m in xml mbstring; do php -m 2>/dev/null | grep -i "^$m$" >/dev/null || WANTED+=("php-$m"); done
}

# unpacked PACKAGE: brings a Debian package that cannot be installed beside another; its files are under out/unpacked/PACKAGE.
unpacked() {
  local to=$ROOT/out/unpacked/$1
  [ ! -e "$to" ] || return 0
  say "Unpacking from Debian's packages: $1"
  mkdir -p "$to.new" && chmod 755 "$to.new"
  apt-get update -qq >/dev/null 2>&1 || true
  (cd "$to.new" && apt-get download "$1" >/dev/null 2>&1 && dpkg -x "$1"_*.deb . && rm "$1"_*.deb) || die "The package $1 could not be fetched: apt-get download $1."
  mv "$to.new" "$to"
}

need_toolchain() {
  command -v dotnet >/dev/null || die "The .NET 10 SDK is missing. Install it, then run this again."
  dotnet --list-sdks | grep '^10\.' >/dev/null || die "The .NET SDK found is not version 10. Install .NET 10, then run this again."
  command -v node >/dev/null && command -v npm >/dev/null || die "Node 20 with npm is missing. Install it, then run this again."
  need gcc gcc openssl openssl curl curl
  [ -e /usr/include/zlib.h ] || { [ "$(id -u)" = 0 ] && need zlib-headers zlib1g-dev; } || die "zlib's headers are missing: apt-get install zlib1g-dev"
}

# fresh STAMP PATH...: whether nothing under the paths is newer than the stamp.
fresh() {
  local stamp=$1; shift
  [ -e "$stamp" ] && [ -z "$(find "$@" -newer "$stamp" -type f -not -path '*/bin/*' -not -path '*/obj/*' -not -path '*/node_modules/*' -not -path '*/wwwroot/*' -print -quit 2>/dev/null)" ]
}

# publish NAME PROJECT TARGET ARGS...: builds one program into out/, once.
publish() {
  local what=$1 project=$2 target=$3; shift 3
  # Whoever has just built all says so: what is there is run as it is, whatever is edited meanwhile.
  [ -n "${BEACON_BUILT:-}" ] && [ -e "$OUT/$target.stamp" ] && return 0
  fresh "$OUT/$target.stamp" "$ROOT/src/Core" "$ROOT/src/Contracts" "$ROOT/src/Probes" "$ROOT/$project" "$ROOT/Directory.Build.props" "$ROOT/Directory.Build.targets" "$ROOT/Directory.Packages.props" ${EXTRA_SOURCES:-} && return 0
  local began=$SECONDS log="$OUT/$target.log"
  mkdir -p "$OUT"
  say "Building $what …"
  # Files of an earlier build have other hashes in their names.
  rm -rf "${OUT:?}/$target/wwwroot"
  # A native program that an earlier build has stripped already cannot be stripped again: it is linked anew.
  rm -rf "$ROOT/$project"/bin/Release/*/*/native
  # The analysers have their say in the build of the sources.
  DOTNET_TieredPGO=0 dotnet publish "$ROOT/$project" ${PREPARED:-} -p:RunAnalyzers=false -c Release -o "$OUT/$target" "$@" >"$log" 2>&1 || { grep -E 'error|warn' "$log" | sort -u | head -20 >&2; die "Building $what failed; the whole output is in $log."; }
  touch "$OUT/$target.stamp"
  say "  done in $((SECONDS - began)) s"
}

# prepare: fetches all packages and builds the console, once for whatever is built at the same time after it.
prepare() {
  (cd "$ROOT" && DOTNET_TieredPGO=0 dotnet restore OrderlyBeacon.slnx) & local packages=$!
  dotnet msbuild "$ROOT/src/Service/OrderlyBeacon.Service.csproj" -t:ConsoleBuild -v:q || { wait "$packages"; return 1; }
  wait "$packages" && PREPARED=--no-restore
}

build_cli() { publish "the client (ahead of time)" src/Cli cli; }
build_stand_ins() { publish "the stand-ins" src/StandIns stand-ins; }
build_agent() { publish "the agent (ahead of time)" src/Agent agent; }
build_service() { EXTRA_SOURCES="$ROOT/console/src $ROOT/console/public $ROOT/console/package.json" publish "the service and its console" src/Service service; }
