#!/usr/bin/env bash
# Takes pictures of commands in a terminal window: terminal.sh DIRECTORY.
# Needs Debian's xvfb, xterm and imagemagick; `make screenshots` installs them.
set -euo pipefail
to=$(realpath "$1")
cd "$(dirname "$0")/../.."
work=$(mktemp -d)
trap 'kill $xvfb 2>/dev/null; rm -rf "$work"' EXIT
export PATH="$PWD/bin:$PATH" DISPLAY=:97
Xvfb :97 -screen 0 1180x440x24 >/dev/null 2>&1 &
xvfb=$!
for _ in $(seq 100); do [ -e /tmp/.X11-unix/X97 ] && break; sleep 0.1; done

mkdir "$work/site"
cp demo/doors.yaml "$work/doors.yaml"
sed -e 's/role: keeper }/role: keeeper }/' -e 's/unlisted:/unlistd:/' -e 's#/press/\*\*#/press//kit#' -e 's/admit: signed-in/admit: signedin/' "$work/doors.yaml" >"$work/draft.yaml"

picture() { # NAME COMMAND...
  local name=$1
  shift
  printf 'cd %q; clear; printf "$ %%s\\n" %q; %s; sleep 20\n' "$work" "$*" "$*" >"$work/run"
  xterm -geometry 130x23+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#fbfaf7' -fg '#1f2933' -e bash "$work/run" &
  local terminal=$!
  sleep 3
  import -window root "$to/$name.png"
  kill $terminal
}
picture check ostiarius check draft.yaml
sed -e 's/outer, role: trustee/outer, role: keeper/' -e 's#/shop/\*\*, ##' -e '/^guarantees/,$d' "$work/doors.yaml" >"$work/draft.yaml"
picture compare ostiarius compare doors.yaml draft.yaml
picture explain ostiarius explain POST /log/%2e/today --policy doors.yaml --as role:volunteer
