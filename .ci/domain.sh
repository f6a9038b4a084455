# A real domain as a private instance: Samba as directory and KDC, knot for names. Sourced with ROOT and, for the functions, DOMAIN (its folder) and DC, NS (loopback addresses).
DOMAIN_PACKAGES=(samba samba adcli adcli kinit krb5-user knotd knot ldbsearch ldb-tools)
wants_domain() {
  wants "${DOMAIN_PACKAGES[@]}"
  wants_file samba-ad-provision /usr/share/samba/setup/provision.ldif
  wants_file samba-dsdb-modules /usr/lib/*/samba/ldb/samba_dsdb.so
  wants_file samba-vfs-modules /usr/lib/*/samba/vfs/acl_xattr.so
  wants_file libsasl2-modules-gssapi-mit /usr/lib/*/sasl2/libgssapiv2.so
  wants_file libldap-2.5-0 /usr/lib/*/libldap-2.5.so.0
  /usr/bin/python3 -c 'import samba' 2>/dev/null || WANTED+=(python3-samba)
}
need_domain() { wants_domain; bring; }

# domain_files: what whoever runs in the domain needs to find it.
domain_files() {
  mkdir -p "$DOMAIN"
  cat >"$DOMAIN/hosts" <<C
127.0.0.1 localhost
$DC dc1.thistledown.example dc1 thistledown.example
${1:-}
C
  echo "nameserver $NS" >"$DOMAIN/resolv.conf"
  cat >"$DOMAIN/krb5.conf" <<C
[libdefaults]
	default_realm = THISTLEDOWN.EXAMPLE
	dns_lookup_realm = false
	dns_lookup_kdc = false
	dns_canonicalize_hostname = false
	rdns = false
	udp_preference_limit = 1
[realms]
	THISTLEDOWN.EXAMPLE = {
		kdc = $DC
		kpasswd_server = $DC
	}
[domain_realm]
	thistledown.example = THISTLEDOWN.EXAMPLE
	.thistledown.example = THISTLEDOWN.EXAMPLE
C
  export KRB5_CONFIG=$DOMAIN/krb5.conf
}

# domain_make: the directory with its people, computers and groups; about 12 s.
domain_make() {
  local d=$DOMAIN/dc
  rm -rf "$d"; mkdir -p "$d"; : >"$d/empty.conf"
  samba-tool domain provision -s "$d/empty.conf" --targetdir="$d" --realm=THISTLEDOWN.EXAMPLE --domain=THISTLE --server-role=dc --host-name=dc1 --host-ip="$DC" \
    --dns-backend=NONE --adminpass="$(domain_secret administrator)" --option="interfaces=$DC/8" --option="bind interfaces only=yes" >"$DOMAIN/provision.log" 2>&1 || return 1
  domain_tls "$d"
  mkdir -p "$d/run" "$d/log" "$d/cache"
  rm -rf "$d"/run/{ntp_signd,winbindd,ncalrpc}
  mkdir -m 0755 "$d/run/ncalrpc" "$d/run/winbindd"; mkdir -m 0750 "$d/run/ntp_signd"
  cat >"$d/etc/smb.conf" <<C
[global]
	netbios name = DC1
	realm = THISTLEDOWN.EXAMPLE
	workgroup = THISTLE
	server role = active directory domain controller
	server services = ldap, cldap, kdc, rpc
	interfaces = $DC/8
	bind interfaces only = yes
	dns update command = /bin/true
	spn update command = /bin/true
	private dir = $d/private
	state directory = $d/state
	cache directory = $d/cache
	lock directory = $d
	pid directory = $d/run
	ncalrpc dir = $d/run/ncalrpc
	ntp signd socket directory = $d/run/ntp_signd
	winbindd socket directory = $d/run/winbindd
	binddns dir = $d/bind-dns
	log file = $d/log/%m.log
	tls enabled = yes
	tls keyfile = $d/private/tls/key.pem
	tls certfile = $d/private/tls/cert.pem
	tls cafile = $d/private/tls/ca.pem
	disable netbios = yes
	load printers = no
	printcap name = /dev/null
C
  mkdir -p "$DOMAIN/keytabs"
  /usr/bin/python3 "$ROOT/.ci/domain-people.py" "$d" "$DOMAIN/keytabs" "$DOMAIN" >"$DOMAIN/people.log" 2>&1
}

# domain_secret NAME: a password, made once.
domain_secret() {
  [ -s "$DOMAIN/$1.password" ] || (umask 077; echo "Rail-$(openssl rand -hex 8)-7" >"$DOMAIN/$1.password")
  cat "$DOMAIN/$1.password"
}

# domain_tls DIR: the certificate of the directory, from an authority of its own.
domain_tls() {
  local t=$1/private/tls; mkdir -p "$t" "$DOMAIN/trust"
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout "$DOMAIN/trust.key" -out "$t/ca.pem" -days 3000 -subj "/O=Thistledown Rail/CN=Thistledown Directory CA" \
    -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign,cRLSign 2>/dev/null
  openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout "$t/key.pem" -out "$t/dc.csr" -subj "/CN=dc1.thistledown.example" 2>/dev/null
  openssl x509 -req -in "$t/dc.csr" -CA "$t/ca.pem" -CAkey "$DOMAIN/trust.key" -set_serial "0x4$(openssl rand -hex 8)" -days 900 -out "$t/cert.pem" \
    -extfile <(printf 'subjectAltName=DNS:dc1.thistledown.example\nextendedKeyUsage=serverAuth\nkeyUsage=digitalSignature\nbasicConstraints=CA:FALSE\n') 2>/dev/null
  chmod 600 "$t/key.pem"; cp "$t/ca.pem" "$DOMAIN/trust/directory-ca.pem"
}

domain_start() {
  local d=$DOMAIN/dc
  rm -f "$d"/run/*.pid
  setsid samba -M single -s "$d/etc/smb.conf" -F --no-process-group --debug-stdout -d 1 >>"$d/log/stdout" 2>&1 </dev/null 9>&- &
  echo $! >"$DOMAIN/dc.pid"
  for _ in $(seq 300); do
    (exec 3<>"/dev/tcp/$DC/88") 2>/dev/null && (exec 3<>"/dev/tcp/$DC/389") 2>/dev/null && (exec 3<>"/dev/tcp/$DC/636") 2>/dev/null && return 0
    kill -0 "$(cat "$DOMAIN/dc.pid")" 2>/dev/null || break
    sleep 0.05
  done
  tail -n 5 "$d/log/stdout" >&2
  return 1
}
domain_stop() {
  local pid; pid=$(cat "$DOMAIN/dc.pid" 2>/dev/null) || return 0
  # Its helpers are its children.
  pkill -TERM -P "$pid" 2>/dev/null || true; kill -TERM "$pid" 2>/dev/null || true
  all_gone "$pid"
  rm -f "$DOMAIN/dc.pid"
}

# names_make RECORDS REVERSE: knot's zones, one for names and one for 10.4.0.0/16. Lines as in a zone file. With NAMES_KEY, a file that is made, whoever has its secret
# may change TLSA records by the key beacon-records; what was changed stays.
names_make() {
  local n=$DOMAIN/knot zone="" keys=""; mkdir -p "$n/db"
  local head="\$TTL 60
@ SOA ns hostmaster $(date +%s) 3600 600 86400 60
@ NS ns.thistledown.example."
  if [ -n "${NAMES_KEY:-}" ]; then
    [ -s "$NAMES_KEY" ] || (umask 077; openssl rand -base64 32 >"$NAMES_KEY")
    keys="key:
  - id: beacon-records
    algorithm: hmac-sha256
    secret: $(cat "$NAMES_KEY")
acl:
  - id: beacon-records
    key: beacon-records
    action: update
    update-type: [TLSA]"
    zone="
    acl: beacon-records
    zonefile-sync: 0
    journal-content: changes"
  fi
  [ -n "$zone" ] && [ -e "$n/thistledown.example.zone" ] \
    || { echo "\$ORIGIN thistledown.example."; echo "$head"; echo "ns A $NS"; echo "dc1 A $DC"; echo "$1"; } >"$n/thistledown.example.zone"
  { echo "\$ORIGIN 4.10.in-addr.arpa."; echo "$head"; echo "${2:-}"; } >"$n/4.10.in-addr.arpa.zone"
  cat >"$n/knot.conf" <<C
server:
  listen: [ $NS@${NSPORT:-53} ]
  rundir: $n
  udp-workers: 1
  tcp-workers: 1
  background-workers: 1
database:
  storage: $n/db
  journal-db-max-size: 16M
log:
  - target: stderr
    any: warning
$keys
template:
  - id: default
    storage: $n
    zonefile-sync: -1
    journal-content: none
zone:
  - domain: thistledown.example
    file: thistledown.example.zone$zone
  - domain: 4.10.in-addr.arpa
    file: 4.10.in-addr.arpa.zone
C
}
names_start() {
  setsid /usr/sbin/knotd -c "$DOMAIN/knot/knot.conf" >>"$DOMAIN/knot/log" 2>&1 </dev/null 9>&- &
  echo $! >"$DOMAIN/knot.pid"
  for _ in $(seq 100); do (exec 3<>"/dev/tcp/$NS/${NSPORT:-53}") 2>/dev/null && return 0; sleep 0.05; done
  tail -n 5 "$DOMAIN/knot/log" >&2
  return 1
}
names_stop() {
  local pid; pid=$(cat "$DOMAIN/knot.pid" 2>/dev/null) || return 0
  kill "$pid" 2>/dev/null || true
  all_gone "$pid"
  rm -f "$DOMAIN/knot.pid"
}
