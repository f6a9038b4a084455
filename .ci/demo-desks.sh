# More of app01, for ./demo --whole: the railway's files (a ProFTPD, without TLS) and its desktops (a broker, a stand-in, whose keystore was renewed by somebody who did not know of its label). Sourced by demo.
FILES=$NET.46 DESK=$NET.47

wants_desks() {
  wants proftpd proftpd-core
  wants_file proftpd-mod-crypto /usr/lib/proftpd/mod_tls.so
}

make_desks() {
  local d=$DATA/app01
  [ ! -e "$d/desks-made" ] || return 0
  mkdir -p "$d"/{files/run,files/all,desk}
  echo "05:12 Thistledown" >"$d/files/all/timetable.txt"
  echo "clerk:$(openssl passwd -6 "$(openssl rand -hex 12)"):65534:65534::$d/files/all:/bin/false" >"$d/files/people"; chmod 600 "$d/files/people"
  cat >"$d/files/proftpd.conf" <<C
# Thistledown Rail: files
LoadModule mod_tls.c
<IfModule mod_ctrls.c>
  ControlsEngine off
</IfModule>
ServerName "Thistledown Rail's files"
ServerType standalone
DefaultAddress $FILES
SocketBindTight on
Port 21
UseIPv6 off
UseReverseDNS off
WtmpLog off
User nobody
Group nogroup
PidFile $d/files/run/proftpd.pid
ScoreboardFile $d/files/run/scoreboard
SystemLog $d/files/run/proftpd.log
TransferLog none
RequireValidShell off
AuthOrder mod_auth_file.c
AuthUserFile $d/files/people
DefaultRoot ~
C
  old_office desk.thistledown.example 300 "$DATA/app01/tls"
  (umask 077; openssl rand -hex 12 >"$d/desk/passphrase")
  openssl pkcs12 -export -in "$d/tls/desk.thistledown.example.pem" -inkey "$d/tls/desk.thistledown.example.key" -name "desk 2026" -passout "file:$d/desk/passphrase" -out "$d/desk/keystore.p12"
  cat >"$d/desk/broker.conf" <<C
# Thistledown Rail: desktops
listen = $DESK:$TLS
name = desk.thistledown.example
keystore = $d/desk/keystore.p12
passphrase-file = $d/desk/passphrase
label = broker
pid-file = $d/desk/broker.pid
log-file = $d/desk/broker.log
C
  touch "$d/desks-made"
}

start_desks() {
  local d=$DATA/app01
  make_desks
  running "$d/files/run/proftpd.pid" || proftpd -c "$d/files/proftpd.conf" >"$d/run/start.log" 2>&1 </dev/null 9>&- || { tail -n 3 "$d/run/start.log" >&2; die "ProFTPD of app01 did not start."; }
  running "$d/desk/broker.pid" || setsid "$OUT/stand-ins/stand-ins" broker --config "$d/desk/broker.conf" >"$d/run/broker.log" 2>&1 </dev/null 9>&- &
}
stop_desks() { stop_by "$DATA/app01/files/run/proftpd.pid" "$DATA/app01/desk/broker.pid"; }

# Told to the agent of app01 before it starts.
name_desks() {
  local d=$DATA/app01
  grep -q '"broker"' "$d/agent/agent.json" && return 0
  "$OUT/agent/beacon-agent" add proftpd "$d/files/proftpd.conf" --name files.thistledown.example --state "$d/agent" >/dev/null
  "$OUT/agent/beacon-agent" add broker "$d/desk/broker.conf" --binary "$OUT/stand-ins/stand-ins" --state "$d/agent" >/dev/null
}

desks_memory() {
  local f pid name
  for f in files/run/proftpd.pid desk/broker.pid; do
    running "$DATA/app01/$f" || continue
    pid=$(tr -d ' ' <"$DATA/app01/$f"); name=$(basename "$f" .pid)
    printf '%s %s MB ' "$name" $((($(awk '/^Pss:/ {print $2}' "/proc/$pid/smaps_rollup" 2>/dev/null || echo 0) + 512) / 1024))
  done
}
