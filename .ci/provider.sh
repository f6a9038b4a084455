#!/usr/bin/env bash
# A private identity provider: SimpleSAMLphp behind PHP's own server of processes and an nginx, as www-data. For the demo and for tests.
#   provider.sh start FOLDER ADDRESS PORT NAME PARTNER=ACS …   makes it at the first time, then starts it (root)
#   provider.sh stop FOLDER
# What it signs is good for LIFE seconds (300). Its web certificate is made here, signed by itself, where WEBCERT and WEBKEY name none.
set -euo pipefail
ACT=$1 DIR=$2
ACCOUNT=www-data SHARE=/usr/share/simplesamlphp
FPM=$(ls /usr/sbin/php-fpm* 2>/dev/null | sort -V | tail -1)

make() {
  mkdir -p "$DIR"/{config,metadata,cert,log,data,tmp,sess,nginx}
  # Made by somebody, years ago, with a screwdriver.
  openssl req -x509 -newkey rsa:2048 -nodes -keyout "$DIR/cert/signing.key" -out "$DIR/cert/signing.crt" -days "${SIGNING_DAYS:-40}" -subj "/CN=signing of $NAME" 2>/dev/null
  if [ -z "${WEBCERT:-}" ]; then
    openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout "$DIR/nginx/web.key" -out "$DIR/nginx/web.pem" -days 400 -subj "/CN=$NAME" -addext "subjectAltName=DNS:$NAME" 2>/dev/null
    WEBCERT=$DIR/nginx/web.pem WEBKEY=$DIR/nginx/web.key
  fi
  cat >"$DIR/config/config.php" <<C
<?php
// Sign-in of Thistledown Rail.
\$config = [
    'baseurlpath' => 'https://$NAME$([ "$PORT" = 443 ] || echo ":$PORT")/saml/',
    'certdir' => '$DIR/cert/',
    'loggingdir' => '$DIR/log/',
    'datadir' => '$DIR/data/',
    'tempdir' => '$DIR/tmp',
    'metadatadir' => '$DIR/metadata',
    'technicalcontact_name' => 'Service desk',
    'technicalcontact_email' => 'desk@thistledown.example',
    'timezone' => 'UTC',
    'secretsalt' => '$(openssl rand -hex 16)',
    'auth.adminpassword' => '$(openssl rand -hex 16)',
    'admin.protectindexpage' => true,
    'admin.checkforupdates' => false,
    'trusted.url.domains' => [],
    'showerrors' => true,
    'errorreporting' => false,
    'logging.level' => SimpleSAML\\Logger::NOTICE,
    'logging.handler' => 'file',
    'logging.logfile' => 'provider.log',
    'enable.saml20-idp' => true,
    'module.enable' => ['exampleauth' => true, 'core' => true, 'saml' => true],
    'session.cookie.secure' => true,
    'session.phpsession.savepath' => '$DIR/sess',
    'session.phpsession.httponly' => true,
    'store.type' => 'phpsession',
    'metadata.sources' => [['type' => 'flatfile']],
    'language.default' => 'en',
    'language.available' => ['en'],
];
C
  cat >"$DIR/config/authsources.php" <<C
<?php
\$config = [
    'admin' => ['core:AdminPassword'],
    'people' => ['exampleauth:UserPass', 'wren:letmein' => ['uid' => ['wren'], 'mail' => ['wren@thistledown.example']]],
];
C
  cat >"$DIR/metadata/saml20-idp-hosted.php" <<C
<?php

/* Who we are in the federation. */
\$metadata['https://$NAME/provider'] = [
    'host' => '__DEFAULT__',
    'auth' => 'people',
    'assertion.lifetime' => ${LIFE:-300},

    // Partners know this one from our metadata.
    'privatekey' => 'signing.key',
    'certificate' => 'signing.crt',
];
C
  { echo '<?php'; for p in "$@"; do printf "\$metadata['%s'] = ['AssertionConsumerService' => '%s'];\n" "${p%%=*}" "${p#*=}"; done; } >"$DIR/metadata/saml20-sp-remote.php"
  cat >"$DIR/nginx/nginx.conf" <<C
# The web side of the provider.
user $ACCOUNT;
worker_processes 1;
pid $DIR/nginx.pid;
error_log $DIR/log/nginx.log;
events { worker_connections 64; }
http {
    access_log $DIR/log/access.log combined;
    client_body_temp_path $DIR/tmp/body;
    proxy_temp_path $DIR/tmp/proxy;
    fastcgi_temp_path $DIR/tmp/fastcgi;
    uwsgi_temp_path $DIR/tmp/uwsgi;
    scgi_temp_path $DIR/tmp/scgi;
    include /etc/nginx/mime.types;
    server {
        listen $ADDRESS:$PORT ssl;
        server_name $NAME;
        ssl_certificate $WEBCERT;
        ssl_certificate_key $WEBKEY;
        location ^~ /saml {
            alias $SHARE/www;
            location ~ ^(?<prefix>/saml)(?<phpfile>.+?\.php)(?<pathinfo>/.*)?\$ {
                include /etc/nginx/fastcgi_params;
                fastcgi_pass unix:$DIR/php.sock;
                fastcgi_param SCRIPT_FILENAME \$document_root\$phpfile;
                fastcgi_param SCRIPT_NAME /saml\$phpfile;
                fastcgi_param PATH_INFO \$pathinfo if_not_empty;
            }
        }
    }
}
C
  cat >"$DIR/php.conf" <<C
[global]
pid = $DIR/php.pid
error_log = $DIR/log/php.log
[www]
listen = $DIR/php.sock
pm = static
pm.max_children = 2
clear_env = yes
env[SIMPLESAMLPHP_CONFIG_DIR] = $DIR/config
C
  chown -R "$ACCOUNT:$ACCOUNT" "$DIR"/{config,metadata,cert,log,data,tmp,sess}
  chown "$ACCOUNT" "$DIR"
  chmod 600 "$DIR/cert/signing.key"
  touch "$DIR/made"
}

case $ACT in
  start)
    ADDRESS=$3 PORT=$4 NAME=$5; shift 5
    [ -e "$DIR/made" ] || make "$@"
    setpriv --reuid "$ACCOUNT" --regid "$ACCOUNT" --clear-groups -- "$FPM" -D -y "$DIR/php.conf" >/dev/null 2>&1
    for _ in $(seq 100); do [ -S "$DIR/php.sock" ] && break; sleep 0.05; done
    [ -n "${WITHOUT_WEB:-}" ] || nginx -p "$DIR" -e "$DIR/log/nginx.log" -c "$DIR/nginx/nginx.conf"
    ;;
  stop)
    for f in "$DIR/nginx.pid" "$DIR/php.pid"; do [ ! -s "$f" ] || kill -TERM "$(cat "$f")" 2>/dev/null || true; done
    ;;
  *) echo "provider.sh start|stop FOLDER …" >&2; exit 2 ;;
esac
