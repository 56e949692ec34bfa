#!/usr/bin/env bash
# Installs what tests and pictures need, or names it.
set -euo pipefail
declare -A package=([curl]=curl [python3]=python3 [tmux]=tmux [xmllint]=libxml2-utils [xmlsec1]=xmlsec1 [openssl]=openssl [pdftotext]=poppler-utils [xterm]=xterm [Xvfb]=xvfb [import]=imagemagick [tinyproxy]=tinyproxy-bin [microsocks]=microsocks [nginx]=nginx-light [lighttpd]=lighttpd [apache2]=apache2-bin)
missing=()
for tool in "${!package[@]}"; do
  command -v "$tool" >/dev/null || missing+=("${package[$tool]}")
done
php -m 2>/dev/null | grep -qix soap || missing+=(php-cli php-soap)
perl -MSOAP::Lite -MHTTP::Daemon -e 1 2>/dev/null || missing+=(libsoap-lite-perl libhttp-daemon-perl)
fc-list 2>/dev/null | grep -qi 'DejaVuSansMono' || missing+=(fonts-dejavu-core)
if ! ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1; then
  missing+=(postgresql)
  if [ "$(id -u)" -eq 0 ] && [ ! -e /etc/postgresql-common/createcluster.conf ]; then # tests start their own server
    mkdir -p /etc/postgresql-common && echo 'create_main_cluster = false' >/etc/postgresql-common/createcluster.conf
  fi
fi
[ ${#missing[@]} -eq 0 ] && exit 0
if [ "$(id -u)" -eq 0 ] && command -v apt-get >/dev/null; then
  apt-get -o APT::Sandbox::User=root update -qq
  DEBIAN_FRONTEND=noninteractive apt-get -o APT::Sandbox::User=root install -y -qq --no-install-recommends "${missing[@]}" fontconfig >/dev/null
else
  echo "These Debian packages are missing; tests that need them are skipped: ${missing[*]}" >&2
fi
