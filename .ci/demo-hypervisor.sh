# A hypervisor host without an agent, for ./demo --whole: its shell (sshd) and its management page (nginx) see an /opt of their own; the agent of app01 reaches it. Sourced by demo.
HYPERVISOR=$NET.62 HYPERVISOR_SSH=2222
HYPERVISOR_PACKAGES=(sshd openssh-server ssh openssh-client unshare util-linux nsenter util-linux)

make_hypervisor() {
  local d=$DATA/hv01
  [ ! -e "$d/made" ] || return 0
  mkdir -p "$d"/opt/hypervisor/{tls,bin} "$d/run"
  ssh-keygen -q -t ed25519 -N '' -f "$d/host-key"
  # As it was delivered: its page vouches for itself.
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout "$d/opt/hypervisor/tls/manager.key" -out "$d/opt/hypervisor/tls/manager.crt" -days 3650 -subj "/CN=localhost" 2>/dev/null
  chmod 600 "$d/opt/hypervisor/tls/manager.key"
  cat >"$d/opt/hypervisor/nginx.conf" <<C
pid $d/run/nginx.pid;
error_log $d/run/nginx.log;
events { worker_connections 64; }
http {
    access_log off;
    client_body_temp_path $d/run/cb; proxy_temp_path $d/run/px; fastcgi_temp_path $d/run/fc; uwsgi_temp_path $d/run/uw; scgi_temp_path $d/run/sc;
    default_type text/html;
    server {
        listen $HYPERVISOR:$TLS ssl;
        ssl_certificate /opt/hypervisor/tls/manager.crt;
        ssl_certificate_key /opt/hypervisor/tls/manager.key;
        location / { return 200 "<!doctype html><title>hv01</title><h1>hv01</h1>"; }
    }
}
C
  cat >"$d/opt/hypervisor/bin/manager" <<C
#!/bin/sh
# Thistledown Rail: the management page of hv01
case \$1 in
check) exec nginx -t -q -e $d/run/nginx.log -c /opt/hypervisor/nginx.conf ;;
restart)
  [ ! -s $d/run/nginx.pid ] || { kill -QUIT "\$(cat $d/run/nginx.pid)" 2>/dev/null; sleep 0.3; }
  exec nginx -e $d/run/nginx.log -c /opt/hypervisor/nginx.conf ;;
*) echo "manager check | restart" >&2; exit 64 ;;
esac
C
  chmod 755 "$d/opt/hypervisor/bin/manager"
  touch "$d/authorized_keys"
  cat >"$d/sshd_config" <<C
ListenAddress $HYPERVISOR
Port $HYPERVISOR_SSH
HostKey $d/host-key
PidFile $d/run/sshd.pid
AuthorizedKeysFile $d/authorized_keys
AuthenticationMethods publickey
PermitRootLogin prohibit-password
StrictModes no
UsePAM no
UseDNS no
PrintMotd no
C
  touch "$d/made"
}
start_hypervisor() {
  local d=$DATA/hv01
  make_hypervisor
  mkdir -p /run/sshd
  setsid unshare --mount sh -c "mount --bind '$d/opt' /opt && /opt/hypervisor/bin/manager restart && exec /usr/sbin/sshd -D -e -f '$d/sshd_config'" >>"$d/run/start.log" 2>&1 </dev/null 9>&- &
  PID[hv01]=$!
}
# As its keeper does it: see the host key and the agent's, let the agent in, say which host key it is.
add_hypervisor() {
  local d=$DATA/hv01 way
  way=(beacon device add hv01.thistledown.example --via app01 --kind hypervisor --address "ssh://root@$HYPERVISOR:$HYPERVISOR_SSH" --port "$TLS")
  for _ in $(seq 50); do ssh-keyscan -p "$HYPERVISOR_SSH" "$HYPERVISOR" 2>/dev/null | grep ssh- >/dev/null && break; sleep 0.2; done
  "${way[@]}" >/dev/null 2>&1 || true
  echo "restrict $(cat "$DATA/app01/agent/devices/hv01.thistledown.example/ssh-key.pub")" >"$d/authorized_keys"
  "${way[@]}" --fingerprint "$(ssh-keygen -l -f "$d/host-key.pub" | cut -d' ' -f2)" >/dev/null
}
stop_hypervisor() { local p=$DATA/hv01/run/nginx.pid; ! running "$p" || kill -QUIT "$(cat "$p")" 2>/dev/null || true; }
