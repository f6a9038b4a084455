# The railway's sign-in, for ./demo --whole: on app01 a SimpleSAMLphp behind an nginx of its own, and two partners (stand-ins), one of which fetches its metadata by itself and one does not. Sourced by demo.
LOGIN=$NET.43 FERRY=$NET.44 WAYFARER=$NET.45 PARTNERPORT=8081

start_login() {
  local d=$DATA/app01/login
  # Of the authority of former days; what it signs with was made by hand, years ago, and ends in twelve days.
  [ -e "$d/made" ] || { mkdir -p "$d"; old_office login.thistledown.example 70 "$DATA/app01/tls"; }
  running "$d/php.pid" || WEBCERT=$DATA/app01/tls/login.thistledown.example.pem WEBKEY=$DATA/app01/tls/login.thistledown.example.key SIGNING_DAYS=12 LIFE=60 \
    "$ROOT/.ci/provider.sh" start "$d" "$LOGIN" "$TLS" login.thistledown.example "https://ferry.example/sp=http://$FERRY:$PARTNERPORT/acs" "https://wayfarer.example/sp=http://$WAYFARER:$PARTNERPORT/acs" \
    >"$DATA/app01/run/login.log" 2>&1 </dev/null 9>&- || { tail -n 3 "$DATA/app01/run/login.log" >&2; die "The sign-in of app01 did not start."; }
}
stop_login() { "$ROOT/.ci/provider.sh" stop "$DATA/app01/login"; }

# Told to the agent of app01 before it starts.
name_login() {
  local d=$DATA/app01/login agent=$DATA/app01/agent
  grep -q simplesamlphp "$agent/agent.json" && return 0
  "$OUT/agent/beacon-agent" add nginx "$d/nginx/nginx.conf" --state "$agent" >/dev/null
  "$OUT/agent/beacon-agent" add simplesamlphp "$d/config" --access-log "$d/log/access.log" --metadata-at "$LOGIN" --state "$agent" >/dev/null
}

start_partner() { # NAME
  local at=$FERRY every=20
  [ "$1" = ferry ] || at=$WAYFARER every=0
  setsid dotnet "$OUT/stand-ins/stand-ins.dll" partner --listen "$at:$PARTNERPORT" --metadata "https://login.thistledown.example:$TLS/saml/saml2/idp/metadata.php" --at "$LOGIN" --refresh $every >>"$DATA/$1.log" 2>&1 9>&- &
  PID[$1]=$!
}

# What is known of the partners: by their contract, where they come from.
tell_partners() {
  local number
  for _ in $(seq 100); do number=$(beacon federation list --json | sed -n 's/.*"number": \([0-9]*\).*/\1/p' | head -n 1); [ -n "$number" ] && break; sleep 0.3; done
  [ -n "$number" ] || return 1
  beacon federation partner "$number" https://ferry.example/sp --from "$FERRY" >/dev/null
  beacon federation partner "$number" https://wayfarer.example/sp --from "$WAYFARER" >/dev/null
}

# In MB: PHP and its web server, and what a partner takes.
federation_memory() {
  local f pid part total=0
  for f in "$DATA/app01/login/php.pid" "$DATA/app01/login/nginx.pid"; do
    running "$f" || continue
    pid=$(tr -d ' ' <"$f")
    for part in "$pid" $(pgrep -P "$pid" || true); do total=$((total + $(awk '/^Pss:/ {print $2}' "/proc/$part/smaps_rollup" 2>/dev/null || echo 0))); done
  done
  printf 'provider %s MB, each partner (stand-in) %s MB' $(((total + 512) / 1024)) $((($(awk '/^Pss:/ {print $2}' "/proc/${PID[ferry]}/smaps_rollup" 2>/dev/null || echo 0) + 512) / 1024))
}
