# What bin/start, bin/test and bin/tamarack share: the packages and the virtual environment.
# Sourced, with ROOT set to the project's folder.

unset PYTHONDONTWRITEBYTECODE  # what one program read is not read again by each that begins beside it

say() { printf '%s\n' "$*" >&2; }
fail() { say "Cannot start: $*"; exit 1; }

# need_packages COMMAND PACKAGE ... : installs Debian packages whose command is missing.
need_packages() {
  missing=""
  while [ $# -gt 0 ]; do
    case "$1" in
      postgres) ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing $2" ;;
      *) command -v "$1" >/dev/null 2>&1 || missing="$missing $2" ;;
    esac
    shift 2
  done
  [ -z "$missing" ] || install_packages "$missing"
}

# install_packages "PACKAGE ..." : installs Debian packages, asking for sudo where that is needed.
install_packages() {
  missing=" ${1# }"
  command -v apt-get >/dev/null 2>&1 || fail "these packages are missing and apt-get is not here:$missing"
  as_root=""
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null 2>&1 || fail "these packages are missing:$missing (install them, or sudo, first)"
    as_root="sudo"
  fi
  (
    flock 9  # one after the other, where something else is being installed beside it
    say "Installing Debian packages:$missing"
    $as_root apt-get update -qq >/dev/null || fail "apt-get update failed"
    # shellcheck disable=SC2086
    $as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null 9<&- \
      || fail "installing$missing failed"
  ) 9<"$ROOT/bin/common.sh" || exit 1
}

# find_python : prints a Python that is new enough; the system's own first, for it is built for speed and kept by Debian.
find_python() {
  for modules in "sys, ensurepip" "sys"; do
    for name in /usr/bin/python3 python3 python3.13 python3.12 python3.11; do
      if command -v "$name" >/dev/null 2>&1 \
        && "$name" -c "import $modules; sys.exit(sys.version_info < (3, 11))" 2>/dev/null; then
        command -v "$name"
        return 0
      fi
    done
  done
  return 1
}

# need_environment LOCK ... : makes the virtual environment from the lock files, where they changed.
need_environment() {
  find_python >/dev/null || install_packages "python3 python3-venv"
  python=$(find_python) || fail "Python 3.11 or newer is needed; this system's packages are older"
  want=$( (cat "$@" "$ROOT/requirements-pip.lock"; echo "$python"; "$python" -V) | sha256sum | cut -d' ' -f1)
  stamp="$ROOT/.venv/.made-from-$#"
  if [ -f "$stamp" ] && grep -qx "$want" "$stamp" && [ -x "$ROOT/.venv/bin/python" ]; then
    return 0
  fi
  say "Making the virtual environment (a minute or so) …"
  # One whose making was interrupted may look whole and fail later: it is made anew.
  half="$ROOT/.venv/.half-made"
  if [ -f "$half" ] || ! grep -qxs "$python" "$ROOT/.venv/.made-with" || [ ! -x "$ROOT/.venv/bin/python" ]; then
    "$python" -c 'import ensurepip' 2>/dev/null || install_packages "python3-venv"
    "$python" -m venv --clear "$ROOT/.venv" && echo "$python" >"$ROOT/.venv/.made-with" \
      || fail "python -m venv failed (Debian: install python3-venv)"
  fi
  touch "$half"
  install() {
    # What is not compiled here is compiled by the program that uses it first; much of it never is.
    "$ROOT/.venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps --require-hashes --no-compile "$@"
  }
  install -r "$ROOT/requirements-pip.lock" || fail "installing pip failed"
  # Beside each other, each package by the first lock that names it.
  taken=""
  pips=""
  for lock in "$@"; do
    mine="$ROOT/.venv/$(basename "$lock")"
    awk -v taken="$taken" 'BEGIN { many = split(taken, names, " "); for (i = 1; i <= many; i++) seen[names[i]] = 1 }
      /^[A-Za-z0-9]/ { name = $1; sub(/==.*/, "", name); keep = !(name in seen) } keep' "$lock" >"$mine"
    taken="$taken $(sed -n 's/^\([A-Za-z0-9._-]*\)==.*/\1/p' "$mine" | tr '\n' ' ')"
    install -r "$mine" &
    pips="$pips $!"
  done
  failed=""
  for one in $pips; do wait "$one" || failed=yes; done
  [ -z "$failed" ] || fail "installing the Python packages failed"
  "$ROOT/.venv/bin/python" - "$ROOT/src" <<'PY'
import sys, sysconfig
from pathlib import Path
Path(sysconfig.get_paths()["purelib"], "tamarack.pth").write_text(sys.argv[1] + "\n")
PY
  echo "$want" >"$stamp"
  rm -f "$half"
}

# need_compiled : compiles the modules on a call's way, where their sources changed. Says why where that cannot be done:
# ends with 3 where something is missing to compile with, with 1 where it fails.
need_compiled() {
  compiled=$(PYTHONPATH="$ROOT/src" "$ROOT/.venv/bin/python" -c \
    'from tamarack.compiled import compiled_folder; print(compiled_folder())')
  [ -d "$compiled" ] && return 0
  say "Compiling the call path (one to three minutes) …"
  log="$ROOT/.venv/compiling.log"
  PYTHONPATH="$ROOT/src" "$ROOT/.venv/bin/python" -m tamarack.compiling >"$log" 2>&1 && return 0 || ended=$?
  say "$(tail -n 1 "$log")"
  return "$ended"
}

# need_node_packages : keeps the packages of a node in a folder, as a machine that reaches no index gets them.
need_node_packages() {
  lock="$ROOT/.venv/node-requirements.txt"
  packages="$ROOT/.venv/node-packages"
  PYTHONPATH="$ROOT/src" "$ROOT/.venv/bin/python" -c \
    'from tamarack.web.quick_start.packages import node_lock; print(node_lock(), end="")' >"$lock.new"
  if [ ! -d "$packages" ] || ! cmp -s "$lock" "$lock.new"; then
    say "Fetching a node's packages …"
    rm -rf "$packages" "$packages.new"
    "$ROOT/.venv/bin/python" -m pip download --quiet --disable-pip-version-check --no-deps --require-hashes \
      -r "$lock.new" -d "$packages.new" || fail "fetching a node's packages failed"
    mv "$packages.new" "$packages"
  fi
  mv "$lock.new" "$lock"
}
