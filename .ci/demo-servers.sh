# The demo's mail host (Postfix and Dovecot) and database host (PostgreSQL), as private instances. Sourced by demo; DATA and NET are set.
# They want accounts of their own, so they run where the demo is started as root.
MAIL=$NET.21 DB=$NET.31
# The usual ports, unless servers of the machine itself have them on all addresses. What was chosen once stays.
listens() { (exec 3<>"/dev/tcp/$1/$2") 2>/dev/null; }
if [ ! -e "$DATA/mail-ports" ]; then
  if listens "$MAIL" 25 || listens "$MAIL" 143 || listens "$MAIL" 587 || listens "$MAIL" 993; then echo "2525 2587 2143 2993"; else echo "25 587 143 993"; fi >"$DATA/mail-ports"
  if listens "$DB" 5432; then echo 5440; else echo 5432; fi >"$DATA/database-port"
fi
read -r SMTP SUBMISSION IMAP IMAPS <"$DATA/mail-ports"
read -r PGPORT_DEMO <"$DATA/database-port"
PGBIN=$(ls -d /usr/lib/postgresql/*/bin 2>/dev/null | sort -V | tail -n 1 || true)

as_postgres() { setpriv --reuid postgres --regid postgres --clear-groups -- "$@"; }
# reachable ACCOUNT FOLDER: whether an account may enter a folder.
reachable() { setpriv --reuid "$1" --regid "$1" --clear-groups -- test -x "$2" 2>/dev/null; }

make_mail() {
  local d=$DATA/mail01
  mkdir -p "$d"/{postfix,dovecot/conf.d,queue,data,log,mail,run,state}
  chown postfix:postfix "$d/data"; chown nobody:nogroup "$d/mail"
  # Whom it believes when it sends mail to others.
  make_public_roots
  cat "$PUBLIC/Brackenhythe_Web_Root.crt" "$PUBLIC/Castle_Quay_Root_2.crt" >"$d/partners.pem"
  cat >"$d/postfix/main.cf" <<C
# Thistledown Rail: mail
compatibility_level = 3.6
config_directory = $d/postfix
queue_directory = $d/queue
data_directory = $d/data
mail_owner = postfix
setgid_group = postdrop
daemon_directory = /usr/lib/postfix/sbin
command_directory = /usr/sbin
meta_directory = /etc/postfix
shlib_directory = /usr/lib/postfix
maillog_file = $d/log/postfix.log
maillog_file_prefixes = $d
inet_interfaces = loopback-only
inet_protocols = ipv4
myhostname = mail.thistledown.example
mydestination =
mynetworks = 127.0.0.0/8
alias_maps =
alias_database =
local_recipient_maps =
default_transport = error:no outside delivery
smtp_tls_CAfile = $d/partners.pem
relay_transport = error:no outside delivery
virtual_mailbox_domains = thistledown.example
virtual_mailbox_base = $d/mail
virtual_mailbox_maps = static:robin/
virtual_uid_maps = static:$(id -u nobody)
virtual_gid_maps = static:$(id -g nobody)
virtual_minimum_uid = 1
C
  cat >"$d/postfix/master.cf" <<C
$MAIL:$SMTP inet  n - n - - smtpd
$MAIL:$SUBMISSION inet  n - n - - smtpd
  -o syslog_name=postfix/submission
pickup    unix  n - n 60 1 pickup
cleanup   unix  n - n - 0 cleanup
qmgr      unix  n - n 300 1 qmgr
tlsmgr    unix  - - n 1000? 1 tlsmgr
rewrite   unix  - - n - - trivial-rewrite
bounce    unix  - - n - 0 bounce
defer     unix  - - n - 0 bounce
trace     unix  - - n - 0 bounce
flush     unix  n - n 1000? 0 flush
proxymap  unix  - - n - - proxymap
error     unix  - - n - - error
retry     unix  - - n - - error
virtual   unix  - n n - - virtual
anvil     unix  - - n - 1 anvil
postlog   unix-dgram n - n - 1 postlogd
C
  printf 'robin:{PLAIN}%s\n' "$(cat "$DATA/robin.password")" >"$d/dovecot/users"; chmod 640 "$d/dovecot/users"; chgrp dovecot "$d/dovecot/users"
  printf '# TLS comes with the certificate\nssl = no\n' >"$d/dovecot/conf.d/10-ssl.conf"
  cat >"$d/dovecot/dovecot.conf" <<C
# Thistledown Rail: mailboxes
base_dir = $d/run
state_dir = $d/state
log_path = $d/log/dovecot.log
hostname = mail.thistledown.example
listen = $MAIL
protocols = imap
disable_plaintext_auth = no
mail_location = maildir:$d/mail/%u
first_valid_uid = 1
first_valid_gid = 1
!include conf.d/*.conf
passdb {
  driver = passwd-file
  args = $d/dovecot/users
}
userdb {
  driver = static
  args = uid=nobody gid=nogroup home=$d/mail/%u
}
service imap-login {
  inet_listener imap {
    port = $IMAP
  }
  inet_listener imaps {
    port = $IMAPS
    ssl = yes
  }
}
C
}
start_mail() {
  local d=$DATA/mail01
  postfix -c "$d/postfix" start >"$d/log/start.log" 2>&1 </dev/null 9>&- || grep -q 'already running' "$d/log/start.log" || { tail -n 3 "$d/log/start.log" >&2; die "Postfix of mail01 did not start. Another program may hold its ports."; }
  dovecot -c "$d/dovecot/dovecot.conf" >"$d/log/start.log" 2>&1 </dev/null 9>&- || grep -q 'already running' "$d/log/start.log" || { tail -n 3 "$d/log/start.log" >&2; die "Dovecot of mail01 did not start. Another program may hold its ports."; }
}

make_database() {
  local d=$DATA/db01
  mkdir -p "$d"; mkdir -p "$d/run"; chown postgres:postgres "$d/run"
  install -d -o postgres -g postgres -m 700 "$d/data"
  as_postgres "$PGBIN/initdb" -D "$d/data" -U postgres --auth-local=peer --auth-host=scram-sha-256 -N --locale=C.UTF-8 -E UTF8 >"$d/initdb.log" 2>&1 || { tail -n 3 "$d/initdb.log" >&2; die "The database of db01 could not be made."; }
  cat >>"$d/data/postgresql.conf" <<C

# Thistledown Rail: bookings
listen_addresses = '$DB'
port = $PGPORT_DEMO
unix_socket_directories = '$d/run'
dynamic_shared_memory_type = mmap
shared_buffers = 16MB
max_connections = 20
C
  echo "host all all 127.0.0.0/8 scram-sha-256" >>"$d/data/pg_hba.conf"
}
start_database() {
  local d=$DATA/db01
  as_postgres "$PGBIN/pg_ctl" -D "$d/data" status >/dev/null 2>&1 && return 0
  as_postgres "$PGBIN/pg_ctl" -D "$d/data" -w -l "$d/run/postgresql.log" start >/dev/null 2>&1 9>&- || { tail -n 3 "$d/run/postgresql.log" >&2; die "PostgreSQL of db01 did not start. Another program may hold its port."; }
}
stop_servers() {
  local file pid pids=()
  for file in "$DATA/mail01/queue/pid/master.pid" "$DATA/mail01/run/master.pid"; do
    [ -s "$file" ] || continue
    pid=$(tr -d ' ' <"$file"); kill "$pid" 2>/dev/null && pids+=("$pid") || true
  done
  [ ! -e "$DATA/db01/data/postmaster.pid" ] || as_postgres "$PGBIN/pg_ctl" -D "$DATA/db01/data" -m fast -w stop >/dev/null 2>&1 || true
  all_gone ${pids[@]+"${pids[@]}"}
}
