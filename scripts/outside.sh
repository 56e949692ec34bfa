#!/usr/bin/env bash
# What needs other languages, and what is too large to keep here: descriptions that Debian's
# packages bring, which are opened in a folder that is deleted afterwards.
set -euo pipefail
# Programs that are handed over are built and run in each of their languages.
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
chmod 755 "$dir"
declare -A needs=([softhsm2-util]=softhsm2 [pkcs11-tool]=opensc [krb5kdc]=krb5-kdc [kadmin.local]=krb5-admin-server [kinit]=krb5-user [java]=default-jdk-headless [javac]=default-jdk-headless [node]=nodejs [php]=php-cli [mcs]=mono-mcs [mono]=mono-runtime [python3]=python3 [curl]=curl [black]=black [pylint]=pylint [mypy]=mypy [shellcheck]=shellcheck [shfmt]=shfmt [phpcs]=php-codesniffer [checkstyle]=checkstyle [npm]=npm [chromium]=chromium)
missing=()
for tool in "${!needs[@]}"; do
  command -v "$tool" >/dev/null || missing+=("${needs[$tool]}")
done
php -m 2>/dev/null | grep -qix dom || missing+=(php-xml)
[ -e /usr/lib/apache2/modules/mod_auth_gssapi.so ] || missing+=(apache2-bin libapache2-mod-auth-gssapi)
[ -e /usr/lib/postgresql ] || missing+=(postgresql)
if [ ${#missing[@]} -gt 0 ] && [ "$(id -u)" -eq 0 ]; then
  apt-get -o APT::Sandbox::User=root update -qq
  DEBIAN_FRONTEND=noninteractive apt-get -o APT::Sandbox::User=root install -y -qq --no-install-recommends "${missing[@]}" >/dev/null ||
    echo "not all of these could be installed: ${missing[*]}" >&2
fi
languages="go"
for row in "python python3" "java java javac" "javascript node" "php php" "csharp mcs mono" "shell curl"; do
  here=1
  for tool in ${row#* }; do
    command -v "$tool" >/dev/null || { here=; echo "$tool is not here (Debian: ${needs[$tool]}): programs in ${row%% *} are NOT tried" >&2; }
  done
  [ -z "$here" ] || languages+=" ${row%% *}"
done
# They are held against the formatters and linters of their languages.
npm install --silent --prefix "$dir/npm" prettier@3 @seriousme/openapi-schema-validator@2 openapi-typescript@7 openapi-fetch@0 \
  typescript@5 puppeteer-core@24 >/dev/null 2>&1 || echo "what npm brings is not here: its judgement is NOT asked" >&2
[ -d "$dir/npm/node_modules" ] && export PATH=$dir/npm/node_modules/.bin:$PATH
# Another version has other rules: only those are asked that the programs are written for.
formatters="gofmt"
for row in "black 23" "pylint 2" "mypy 1" "checkstyle 8" "prettier 3" "phpcs 3" "shellcheck 0" "shfmt 3"; do
  tool=${row% *} version=
  if command -v "$tool" >/dev/null; then version=$("$tool" --version 2>&1 | grep -oE '[0-9]+\.[0-9]+' | head -1); fi
  if [ "${version%%.*}" = "${row#* }" ]; then formatters+=" $tool"; else echo "$tool ${row#* } is not here (${version:-none is}): its judgement is NOT asked" >&2; fi
done
ORENDA_FORMATTERS=$formatters ORENDA_LANGUAGES=$languages go test -count 1 -run "AProgram|WritesNoCode|ABatch" ./internal/cli
# A façade is taken by a validator of OpenAPI, a generator of clients, and a browser.
command -v chromium >/dev/null || echo "chromium is not here: the page of a façade is NOT tried in a browser" >&2
if [ -d "$dir/npm/node_modules/puppeteer-core" ]; then ORENDA_NPM=$dir/npm go test -count 1 -run TakenByOthers ./internal/cli; fi
# Kerberos against MIT's key distribution centre and Apache; a journal against PostgreSQL.
go test -count 1 -run 'Negotiate|Kerberos' ./internal/call
# A key in a token of PKCS#11.
go test -count 1 -run AKeyInAToken ./internal/call
go test -count 1 ./internal/journal/postgres
# The validator is held against two that were made by others.
ORENDA_LANGUAGES=all go test -count 1 -run Families ./internal/schema

for package in python3-oslo.vmware libkdsoap-doc nordugrid-arc-hed; do
  if ! (cd "$dir" && apt-get download -qq "$package" 2>/dev/null); then
    echo "the Debian package $package cannot be fetched: its descriptions are not tested" >&2
  fi
done
for deb in "$dir"/*.deb; do
  [ -e "$deb" ] && dpkg -x "$deb" "$dir/descriptions"
done
if [ -d "$dir/descriptions" ]; then
  ORENDA_DESCRIPTIONS=$dir/descriptions go test -count 1 -v -run LargeDescriptions ./internal/message | grep -v -- "--- SKIP" | tail -20
fi
