# What the clients of Thistledown Rail's hosts trust. Sourced by demo; wants DATA, OLD, HARBOUR.
# Public authorities of this world; none of them is real.
PUBLIC=$DATA/public-roots
make_public_roots() {
  [ ! -e "$PUBLIC/made" ] || return 0
  local root
  mkdir -p "$PUBLIC"
  for root in "Aldermoor Public Root" "Brackenhythe Web Root" "Castle Quay Root 2" "Dunlin Secure Servers Root" "Elderflower Root" "Fenwick Global Root"; do
    openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout /dev/null -out "$PUBLIC/${root// /_}.crt" -days $((2500 + RANDOM % 3000)) \
      -subj "/O=${root%% *} Trust/CN=$root" -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign,cRLSign 2>/dev/null
  done
  cp "$HARBOUR/root.pem" "$PUBLIC/Harbour_Trust_Root.crt"
  touch "$PUBLIC/made"
}

# make_trust HOST: a system's bundle of its own. The administrator of web01 and mail01 has put our root there by hand; nobody has thought of the others.
make_trust() {
  local t=$DATA/$1/trust f
  [ ! -e "$t/made" ] || return 0
  make_public_roots
  mkdir -p "$t"/{usr/share/ca-certificates/public,usr/local/share/ca-certificates,etc/ssl/certs,etc/ca-certificates/update.d}
  cp "$PUBLIC"/*.crt "$t/usr/share/ca-certificates/public/"
  (cd "$t/usr/share/ca-certificates" && ls public/*.crt) >"$t/etc/ca-certificates.conf"
  cp "$OLD/ca.pem" "$t/usr/local/share/ca-certificates/old-office.crt"
  case $1 in web01|mail01) cp "$DATA/service/root.pem" "$t/usr/local/share/ca-certificates/thistledown-root.crt" ;; esac
  /usr/sbin/update-ca-certificates --certsconf "$t/etc/ca-certificates.conf" --certsdir "$t/usr/share/ca-certificates" --localcertsdir "$t/usr/local/share/ca-certificates" \
    --etccertsdir "$t/etc/ssl/certs" --hooksdir "$t/etc/ca-certificates/update.d" >"$t/made.log" 2>&1 || { tail -n 3 "$t/made.log" >&2; die "The trust store of $1 could not be made."; }
  # On web02 a browser shows the timetable in the hall: it has a database of its own.
  if [ "$1" = web02 ] && [ -x "$(command -v certutil || true)" ]; then
    mkdir -p "$t/browser"
    certutil -N -d "sql:$t/browser" --empty-password
    certutil -A -d "sql:$t/browser" -n "Thistledown Old Office CA" -t C,, -i "$OLD/ca.pem"
  fi
  # The applications' Java has the public ones.
  if [ "$1" = app01 ] && [ -x "$(command -v keytool || true)" ]; then
    for f in "$PUBLIC"/*.crt; do
      keytool -importcert -noprompt -alias "$(basename "$f" .crt)" -file "$f" -keystore "$t/cacerts" -storetype JKS -storepass changeit >>"$t/made.log" 2>&1
    done
  fi
  touch "$t/made"
}

# trust_of HOST: what its agent looks after.
trust_of() {
  local t=$DATA/$1/trust
  printf -- '--trust system=%s ' "$t"
  [ ! -e "$t/browser/cert9.db" ] || printf -- '--trust nss=%s ' "$t/browser"
  [ ! -e "$t/cacerts" ] || printf -- '--trust java=%s ' "$t/cacerts"
}
