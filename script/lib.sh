# Shared by the scripts: what they install, and where things are.
# Sourced, not run.

cd "$(dirname "${BASH_SOURCE[0]}")/.."

say() { printf '%s\n' "$*" >&2; }

# need PROGRAM PACKAGE: installs a Debian package unless the program is there.
need() {
  local program=$1 package=$2
  command -v "$program" >/dev/null 2>&1 && return
  [ -x "/usr/sbin/$program" ] && return
  if ! command -v apt-get >/dev/null 2>&1; then
    say "$program is missing: install it, then start again."
    exit 1
  fi
  local as=()
  if [ "$(id -u)" -ne 0 ]; then
    as=(sudo)
  fi
  say "Installing $package …"
  if ! { "${as[@]}" apt-get install -y --no-install-recommends "$package" ||
    { "${as[@]}" apt-get update && "${as[@]}" apt-get install -y --no-install-recommends "$package"; }; } >"${TMPDIR:-/tmp}/woodlark-install.log" 2>&1; then
    tail -n 5 "${TMPDIR:-/tmp}/woodlark-install.log" >&2
    say "$package could not be installed: install it by hand, then start again."
    exit 1
  fi
}

# in_memory has what is thrown away again kept in memory where there is enough: databases that live for a
# test wait for the disk for most of their time.
in_memory() {
  local room
  room=$(df --output=avail -k /dev/shm 2>/dev/null | tail -n 1) || return 0
  [ -n "$room" ] && [ -w /dev/shm ] && [ "$(stat -f -c %T /dev/shm)" = tmpfs ] || return 0
  local memory
  memory=$(awk '$1 == "MemAvailable:" {print $2}' /proc/meminfo)
  if [ "$room" -ge 8000000 ] && [ "$memory" -ge 12000000 ]; then
    TMPDIR=$(mktemp -d /dev/shm/woodlark-XXXXXX)
    chmod 0711 "$TMPDIR" # some tests are of who has no rights
    export TMPDIR
    trap 'rm -rf "$TMPDIR"' EXIT
  fi
}

need_toolchain() {
  local tool
  for tool in go node npm; do
    command -v "$tool" >/dev/null 2>&1 || { say "$tool is missing: Woodlark is built with Go 1.26 and Node 20 or newer."; exit 1; }
  done
}

# The core packages hold the programs alone: unlike mariadb-server they start no
# server of the system's.
need_database() {
  need mariadbd mariadb-server-core
  need my_print_defaults mariadb-client-core
}

build_console() {
  local stamp=web/node_modules/.woodlark-lock
  if ! cmp -s web/package-lock.json "$stamp"; then
    say "Installing the console's packages …"
    (cd web && npm ci --no-audit --no-fund --loglevel=error >&2)
    cp web/package-lock.json "$stamp"
  fi
  rm -rf web/dist/assets
  (cd web && npm run --silent build >"${TMPDIR:-/tmp}/woodlark-console.log" 2>&1) || { cat "${TMPDIR:-/tmp}/woodlark-console.log" >&2; exit 1; }
}

build_program() {
  mkdir -p bin
  # It begins at its own entry, which sees whether standard output is open.
  CGO_ENABLED=0 go build -trimpath -buildvcs=false -ldflags "-E main.entry $(built_from)" -o bin/woodlark ./cmd/woodlark
}

# built_from has the linker set what the program is built from: of what is committed only, so that
# the same source gives the same program.
built_from() {
  local hash
  hash=$(git rev-parse --short=12 HEAD 2>/dev/null) || return 0
  if [ -n "$(git status --porcelain 2>/dev/null)" ]; then hash="$hash+"; fi
  echo "-X woodlark.example/internal/cli.commit=$hash -X woodlark.example/internal/cli.date=$(git log -1 --format=%cs)"
}
