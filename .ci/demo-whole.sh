# The rest of the railway, for ./demo --whole: app01 with an Apache (intranet), an HAProxy in front of the season tickets, a MariaDB (fares), a Redis (places) and a slapd (the crew's directory). Sourced by demo.
APP=$NET.41
WHOLE_PACKAGES=(apache2 apache2-bin haproxy haproxy redis-server redis-server mariadbd mariadb-server-core mariadb mariadb-client-core slapd slapd)
as_app() { setpriv --reuid www-data --regid www-data --clear-groups -- "$@"; }

# old_office NAME DAYS FOLDER: a certificate of the authority of former days.
old_office() {
  openssl req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout "$3/$1.key" -out "$3/$1.csr" -subj "/O=Thistledown Rail/CN=$1" 2>/dev/null
  openssl x509 -req -in "$3/$1.csr" -CA "$OLD/ca.pem" -CAkey "$OLD/ca.key" -set_serial "0x$(openssl rand -hex 8 | sed 's/^./4/')" -days "$2" -out "$3/$1.pem" \
    -extfile <(printf 'basicConstraints=CA:FALSE\nextendedKeyUsage=serverAuth\nsubjectAltName=DNS:%s\n' "$1") 2>/dev/null
}

make_app() {
  local d=$DATA/app01 modules=/usr/lib/apache2/modules
  [ ! -e "$d/made" ] || return 0
  mkdir -p "$d"/{apache/sites,haproxy,mariadb,redis,tls,run,www}
  echo "<!doctype html><html lang=en><title>Intranet</title><h1>Intranet</h1><p>Thistledown Rail" >"$d/www/index.html"
  # Ends in five days, of an authority that nobody keeps any more.
  old_office intranet.thistledown.example 5 "$d/tls"
  cat >"$d/apache/apache2.conf" <<C
# Thistledown Rail: the intranet
ServerRoot $d/apache
DefaultRuntimeDir $d/run
PidFile $d/run/apache2.pid
ErrorLog $d/run/apache.log
ServerName app01.thistledown.example
User nobody
Group nogroup
LoadModule mpm_event_module $modules/mod_mpm_event.so
LoadModule authz_core_module $modules/mod_authz_core.so
LoadModule dir_module $modules/mod_dir.so
LoadModule ssl_module $modules/mod_ssl.so
StartServers 1
ServerLimit 2
ThreadsPerChild 8
MaxRequestWorkers 16
MinSpareThreads 4
MaxSpareThreads 8
SSLSessionCache none
Listen $APP:$TLS
IncludeOptional sites/*.conf
C
  cat >"$d/apache/sites/intranet.conf" <<C
<Directory $d/www>
    Require all granted
</Directory>
<VirtualHost $APP:$TLS>
    ServerName intranet.thistledown.example
    DocumentRoot $d/www
    SSLEngine on
    SSLCertificateFile $d/tls/intranet.thistledown.example.pem
    SSLCertificateKeyFile $d/tls/intranet.thistledown.example.key
</VirtualHost>
C
  # Without TLS: the season tickets, the fares, the places and the crew's directory.
  cat >"$d/haproxy/haproxy.cfg" <<C
# Thistledown Rail: in front of the season tickets
global
    pidfile $d/run/haproxy.pid
    maxconn 100
defaults
    mode http
    timeout connect 5s
    timeout client 30s
    timeout server 30s
frontend season
    bind $NET.42:$HTTP
    http-request return status 200 content-type text/html string "<h1>Season tickets</h1>"
C
  chown www-data:www-data "$d/mariadb" "$d/redis"
  as_app mariadb-install-db --no-defaults --datadir="$d/mariadb/data" --auth-root-authentication-method=socket --auth-root-socket-user=root --skip-test-db --innodb-log-file-size=4M \
    >"$d/run/mariadb-install.log" 2>&1 || { tail -n 3 "$d/run/mariadb-install.log" >&2; die "The tables of the fares could not be made."; }
  cat >"$d/mariadb/my.cnf" <<C
# Thistledown Rail: fares
[mariadbd]
datadir = $d/mariadb/data
socket = $d/mariadb/m.sock
pid_file = $d/mariadb/m.pid
log_error = $d/mariadb/error.log
bind_address = $APP
port = $MYPORT
innodb_buffer_pool_size = 8M
innodb_log_file_size = 4M
aria_pagecache_buffer_size = 1M
key_buffer_size = 1M
performance_schema = OFF
skip_name_resolve
C
  cat >"$d/redis/redis.conf" <<C
# Thistledown Rail: places
bind $APP
port $SEATSPORT
dir $d/redis
pidfile $d/redis/redis.pid
logfile $d/redis/redis.log
save ""
requirepass $(openssl rand -hex 12)
C
  chown www-data:www-data "$d/mariadb/my.cnf" "$d/redis/redis.conf"; chmod 640 "$d/redis/redis.conf"
  touch "$d/made"
}

make_crew() {
  local d=$DATA/app01
  [ ! -e "$d/slapd/made" ] || return 0
  mkdir -p "$d"/slapd/{config,data,run}
  cat >"$d/slapd/config.ldif" <<C
dn: cn=config
objectClass: olcGlobal
cn: config
olcPidFile: $d/slapd/run/slapd.pid
olcArgsFile: $d/slapd/run/slapd.args
olcThreads: 4

dn: cn=module{0},cn=config
objectClass: olcModuleList
cn: module{0}
olcModulePath: /usr/lib/ldap
olcModuleLoad: back_mdb

dn: cn=schema,cn=config
objectClass: olcSchemaConfig
cn: schema

include: file:///etc/ldap/schema/core.ldif

dn: olcDatabase={0}config,cn=config
objectClass: olcDatabaseConfig
olcDatabase: {0}config
olcAccess: to * by dn.exact=gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth manage by * none

dn: olcDatabase={1}mdb,cn=config
objectClass: olcDatabaseConfig
objectClass: olcMdbConfig
olcDatabase: {1}mdb
olcDbDirectory: $d/slapd/data
olcSuffix: dc=thistledown,dc=example
olcDbMaxSize: 16777216
C
  slapadd -n 0 -F "$d/slapd/config" -l "$d/slapd/config.ldif" >"$d/run/slapadd.log" 2>&1 || { tail -n 3 "$d/run/slapadd.log" >&2; die "The crew's directory could not be made."; }
  chown -R openldap:openldap "$d"/slapd/{config,data,run}
  touch "$d/slapd/made"
}

if [ ! -e "$DATA/app-ports" ]; then
  if listens "$APP" 3306 || listens "$APP" 6379 || listens "$APP" 389; then echo "3390 6390 1389 1636"; else echo "3306 6379 389 636"; fi >"$DATA/app-ports"
fi
read -r MYPORT SEATSPORT CREWPORT CREWTLSPORT <"$DATA/app-ports"
: "${CREWPORT:=389}" "${CREWTLSPORT:=636}"

# stop_by PIDFILE...: tells each to stop, then waits for all.
stop_by() {
  local file pids=()
  for file in "$@"; do running "$file" && pids+=("$(tr -d ' ' <"$file")") || true; done
  [ ${#pids[@]} -eq 0 ] || kill "${pids[@]}" 2>/dev/null || true
  all_gone ${pids[@]+"${pids[@]}"}
}
running() { [ -s "$1" ] && kill -0 "$(tr -d ' ' <"$1")" 2>/dev/null; }
start_app() {
  local d=$DATA/app01
  make_app
  make_crew
  running "$d/run/apache2.pid" || apache2 -k start -f "$d/apache/apache2.conf" >"$d/run/start.log" 2>&1 </dev/null 9>&- || { tail -n 3 "$d/run/start.log" >&2; die "Apache of app01 did not start."; }
  running "$d/run/haproxy.pid" || haproxy -W -D -f "$d/haproxy/haproxy.cfg" >"$d/run/start.log" 2>&1 </dev/null 9>&- || { tail -n 3 "$d/run/start.log" >&2; die "HAProxy of app01 did not start."; }
  running "$d/redis/redis.pid" || as_app redis-server "$d/redis/redis.conf" --daemonize yes >"$d/run/start.log" 2>&1 </dev/null 9>&- || { tail -n 3 "$d/run/start.log" >&2; die "Redis of app01 did not start."; }
  running "$d/slapd/run/slapd.pid" || slapd -F "$d/slapd/config" -u openldap -g openldap -h "ldap://$APP:$CREWPORT ldaps://$APP:$CREWTLSPORT ldapi://${d//\//%2F}%2Fslapd%2Frun%2Fldapi" \
    >"$d/run/start.log" 2>&1 </dev/null 9>&- || { tail -n 3 "$d/run/start.log" >&2; die "slapd of app01 did not start."; }
  running "$d/mariadb/m.pid" || as_app setsid mariadbd --defaults-file="$d/mariadb/my.cnf" >"$d/run/mariadb.log" 2>&1 </dev/null 9>&- &
  for _ in $(seq 100); do
    # Who has no account for where it calls from is sent away before there is any talk of TLS.
    mariadb --no-defaults -S "$d/mariadb/m.sock" -e "create user if not exists clerk@'127.%' identified by '$(openssl rand -hex 12)'" 2>/dev/null && return 0
    sleep 0.2
  done
  die "MariaDB of app01 did not start; its log is $d/mariadb/error.log."
}
app_pid_files() { local d=$DATA/app01; echo "$d/run/apache2.pid" "$d/run/haproxy.pid" "$d/redis/redis.pid" "$d/mariadb/m.pid" "$d/slapd/run/slapd.pid"; }
# shellcheck disable=SC2046
stop_app() { stop_by $(app_pid_files); }

# app_memory: what each part costs, its helpers with it, in MB.
app_memory() {
  local f pid total part
  for f in $(app_pid_files); do
    running "$f" || continue
    pid=$(tr -d ' ' <"$f"); total=0
    for part in "$pid" $(pgrep -P "$pid" || true); do total=$((total + $(awk '/^Pss:/ {print $2}' "/proc/$part/smaps_rollup" 2>/dev/null || echo 0))); done
    printf '%s %s MB, ' "$(cat "/proc/$pid/comm")" $(((total + 512) / 1024))
  done
}
