#!/usr/bin/env bash
# Makes the pictures in docs/screenshots from the demo data: the application in
# tmux in xterm under Xvfb, 1280x800.
set -euo pipefail
cd "$(dirname "$0")/.."
out=${1:-docs/screenshots}
mkdir -p "$out"
tmp=$(mktemp -d)
display=:$((90 + RANDOM % 900))
tm() { tmux -L "orenda-shots-$$" "$@"; }
pids=()
cleanup() { tm kill-server 2>/dev/null || true; for p in "${pids[@]}"; do kill "$p" 2>/dev/null || true; done; rm -rf "$tmp" "${demo:-$tmp}"; }
trap cleanup EXIT
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 & pids+=($!)
for _ in $(seq 50); do [ -e "/tmp/.X11-unix/X${display#:}" ] && break; sleep 0.1; done
export DISPLAY=$display LANG=C.UTF-8 LC_ALL=C.UTF-8
demo=/tmp/skerry-demo # its name stands on a picture
rm -rf "$demo"
tm -f /dev/null new-session -d -x 158 -y 47 "TERM=xterm-256color COLORTERM= ./bin/orenda demo --dir $demo"
tm set -g status off \; set -g escape-time 0 \; set -g default-terminal xterm-256color
xterm -tn xterm-256color -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x47+0+0 -bg '#14181d' -fg '#d6dbe0' -b 0 -e tmux -L "orenda-shots-$$" attach >/dev/null 2>&1 & pids+=($!)
shown() { # waits until a text stands on the screen
  for _ in $(seq 200); do tm capture-pane -p | grep -qF -- "$1" && return 0; sleep 0.1; done
  echo "never shown: $1" >&2; tm capture-pane -p >&2; exit 1
}
keys() { for k in "$@"; do tm send-keys "$k"; sleep 0.15; done; }
shot() { sleep 0.6; import -window root -depth 8 "$out/$1.png"; }
source "${STORY:-./scripts/shots-story.sh}"
# The page of a façade, on the demo's workspace, where a browser is here.
if [ -z "${STORY:-}" ] && command -v chromium >/dev/null; then
  XDG_STATE_HOME=$tmp/state ./bin/orenda -w "$demo/workspace" facade berths-11 >"$tmp/facade" 2>/dev/null & pids+=($!)
  for _ in $(seq 50); do [ -s "$tmp/facade" ] && break; sleep 0.1; done
  at=$(grep -oE 'http://[^"/]+' "$tmp/facade" | head -1)
  chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$out/facade.png" "$at/" >/dev/null 2>&1
fi
