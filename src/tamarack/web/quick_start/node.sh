#!/bin/sh
# Sets up a Tamarack gateway node and runs it. Nothing is installed outside of one folder, and no right is needed but to
# write there. Options: --folder, --name, --port, --host, --address, --packages (a folder of packages for machines that
# reach no index), and --no-run.
set -eu
umask 077

# values

FOLDER=tamarack-node NAME='' PORT=8080 HOST=127.0.0.1 ADDRESS='' PACKAGES='' RUN=yes
[ ! -d packages ] || PACKAGES=$(pwd)/packages
while [ $# -gt 0 ]; do
  case "$1" in
    --no-run) RUN=''; shift; continue ;;
    --folder | --name | --port | --host | --address | --packages) ;;
    *) echo "$1 is no option of this script: --folder, --name, --port, --host, --address, --packages, --no-run" >&2; exit 2 ;;
  esac
  [ $# -ge 2 ] || { echo "$1 needs a value" >&2; exit 2; }
  case "$1" in
    --folder) FOLDER=$2 ;;
    --name) NAME=$2 ;;
    --port) PORT=$2 ;;
    --host) HOST=$2 ;;
    --address) ADDRESS=$2 ;;
    --packages) PACKAGES=$2 ;;
  esac
  shift 2
done

# The token stays out of the list of processes: curl reads it from its standard input.
ask() {
  printf 'header = "Authorization: Bearer %s"\n' "$TOKEN" \
    | curl -fsS --max-time 60 ${CAFILE:+--cacert "$CAFILE"} --config - "$@"
}
tell() { ask --data-urlencode "step=$1" --data-urlencode "problem=${2:-}" "$FEED/join/step" >/dev/null 2>&1 || true; }
fail() { echo "$2" >&2; tell "$1" "$2"; exit 1; }

CAFILE=''
if [ -n "$CA" ]; then
  CAFILE=$(mktemp)
  trap 'rm -f "$CAFILE"' EXIT
  printf '%s' "$CA" >"$CAFILE"
fi

python=''
for name in python3 python3.13 python3.12 python3.11 /usr/bin/python3; do
  if command -v "$name" >/dev/null 2>&1 && "$name" -c 'import ensurepip, sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
    python=$name
    break
  fi
done
[ -n "$python" ] || fail prepared "Python 3.11 or newer with its venv module is not here (Debian: apt install python3-venv)."
mkdir -p "$FOLDER" 2>/dev/null || fail prepared "The folder $FOLDER cannot be made here."
FOLDER=$(cd "$FOLDER" && pwd)
[ ! -e "$FOLDER/node/node.json" ] || fail prepared "There is a node in $FOLDER already. Choose another folder with --folder."
echo "Making a Python environment in $FOLDER …"
said=$("$python" -m venv --clear "$FOLDER/venv" 2>&1) || fail prepared "The Python environment could not be made: $(printf '%s' "$said" | tail -n 1)"
tell prepared

echo "Installing packages …"
ask -o "$FOLDER/$WHEEL" "$FEED/quick-start/$WHEEL" || fail installed "The node's package could not be fetched from $FEED."
ask -o "$FOLDER/requirements.txt" "$FEED/quick-start/requirements.txt" || fail installed "The list of packages could not be fetched from $FEED."
found=$("$FOLDER/venv/bin/python" -c 'import hashlib, sys; print(hashlib.sha256(open(sys.argv[1], "rb").read()).hexdigest())' "$FOLDER/$WHEEL")
[ "$found" = "$DIGEST" ] || fail installed "The node's package is not the one this script was made for; make a new join token."
pip() { "$FOLDER/venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps --no-compile "$@" 2>&1; }
if [ -n "$PACKAGES" ]; then
  said=$(pip --require-hashes --no-index --find-links "$PACKAGES" -r "$FOLDER/requirements.txt")
else
  said=$(pip --require-hashes -r "$FOLDER/requirements.txt")
fi || fail installed "Packages could not be installed: $(printf '%s' "$said" | grep -i error | tail -n 1)"
said=$(pip --no-index "$FOLDER/$WHEEL") || fail installed "The node's package could not be installed: $(printf '%s' "$said" | tail -n 1)"
tell installed

export TAMARACK_JOIN_TOKEN="$TOKEN"
"$FOLDER/venv/bin/tamarack-node" join --feed "$FEED" --home "$FOLDER/node" ${NAME:+--name "$NAME"} \
  ${CAFILE:+--ca "$CAFILE"}
unset TAMARACK_JOIN_TOKEN
[ -z "$CAFILE" ] || rm -f "$CAFILE"

set -- "$FOLDER/venv/bin/tamarack-node" run --home "$FOLDER/node" --port "$PORT" --host "$HOST" ${ADDRESS:+--address "$ADDRESS"}
echo "To run it again: $*"
[ -n "$RUN" ] || exit 0
echo "Running the node on $HOST port $PORT. Stop it with Ctrl+C."
exec "$@"
