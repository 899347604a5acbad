#!/bin/sh
# Gate Check: fetches the probe for one ticket and starts it. For any shell; needs curl or wget, and Python 3.8 or newer.
ADDRESS='@ADDRESS@'
REFUSED='@REFUSED@'
PIN='@PIN@'
SUM='@SUM@'

say() { printf 'Gate Check: %s\n' "$*" >&2; }

if [ -n "$REFUSED" ]; then
  say "$REFUSED"
  exit 2
fi

PYTHON=
for name in python3 python; do
  if command -v "$name" >/dev/null 2>&1 && "$name" -c 'import sys; sys.exit(sys.version_info < (3, 8))' 2>/dev/null; then
    PYTHON=$name
    break
  fi
done
if [ -z "$PYTHON" ]; then
  say "this live system has no Python 3.8 or newer, and the probe needs it."
  say "Start a live system that has it. Without a network there: save @SERVER@/probe on a stick from another machine,"
  say "start it with  sudo python3 gatecheck_probe.pyz --out machine.gcap  and drop that file on the ticket."
  exit 3
fi

PLACE=$(mktemp "${TMPDIR:-/tmp}/gatecheck.XXXXXX") || { say "no room for a file in ${TMPDIR:-/tmp}"; exit 4; }
PLAIN="http://${ADDRESS#*://}"  # the same port answers both: what cannot check the bench's key checks the sum below
if command -v curl >/dev/null 2>&1; then
  if [ -n "$PIN" ]; then curl -fsSk --pinnedpubkey "sha256//$PIN" -o "$PLACE" "$ADDRESS"; else curl -fsS -o "$PLACE" "$ADDRESS"; fi
elif command -v wget >/dev/null 2>&1; then
  if [ -n "$PIN" ]; then wget -q -O "$PLACE" "$PLAIN"; else wget -q -O "$PLACE" "$ADDRESS"; fi
else
  busybox wget -q -O "$PLACE" "$PLAIN"
fi
if [ ! -s "$PLACE" ]; then
  say "the probe did not come from $ADDRESS. Is the bench still on, and this machine on its network?"
  rm -f "$PLACE"
  exit 5
fi

if [ -n "$SUM" ] && ! "$PYTHON" -c 'import hashlib, sys; sys.exit(hashlib.sha256(open(sys.argv[1], "rb").read()).hexdigest() != sys.argv[2])' "$PLACE" "$SUM"; then
  say "what came from $ADDRESS is not this bench's probe: somebody else answers there. Nothing of it was started."
  rm -f "$PLACE"
  exit 7
fi

if [ "$(id -u)" = 0 ]; then
  exec "$PYTHON" "$PLACE" "$@"
elif command -v sudo >/dev/null 2>&1; then
  exec sudo "$PYTHON" "$PLACE" "$@"
fi
say "drives answer only root, and there is no sudo here. As root:  $PYTHON $PLACE"
exit 6
