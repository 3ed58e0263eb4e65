# What the scripts of the real servers share. Sourced by a script that has set NAME and PEER_PORT's
# default PORT; everything it makes is under $PEER_DIR.
set -euo pipefail

PEER_DIR=${PEER_DIR:-${TMPDIR:-/tmp}/pargeter-peer/$NAME}
PORT=${PEER_PORT:-$PORT}

die() { echo "$NAME: $*" >&2; exit 1; }
[[ $PEER_DIR =~ ^/[A-Za-z0-9._/+-]+$ ]] || die "PEER_DIR is not a plain absolute path: $PEER_DIR"

# install_packages FILE PACKAGE...: nothing if FILE is there. Services of theirs do not start.
install_packages() {
  local file=$1
  shift
  [[ -e $file ]] && return 0
  [[ $(id -u) == 0 ]] || die "$1 is not installed, and only root can"
  local apt=(env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get -qq -o DPkg::Lock::Timeout=900)
  { "${apt[@]}" update && "${apt[@]}" install -y --no-install-recommends "$@"; } >"$PEER_DIR/apt.log" 2>&1 ||
    die "apt-get failed: see $PEER_DIR/apt.log"
}

answers() { (exec 3<>"/dev/tcp/127.0.0.1/$PORT") 2>/dev/null; }

# start COMMAND...: of a server that leaves its process id in $PEER_DIR/pid.
start() {
  local pid
  if ! { pid=$(cat "$PEER_DIR/pid" 2>/dev/null) && [[ -e /proc/$pid ]]; }; then
    answers && die "another server has port $PORT: give one with PEER_PORT"
    "$@" >"$PEER_DIR/start.log" 2>&1 || die "did not start: see $PEER_DIR/start.log"
    for _ in {1..100}; do
      answers && break
      sleep 0.1
    done
  fi
  answers || die "does not answer: see the logs in $PEER_DIR"
}

down() { # [--purge]
  local pid
  if pid=$(cat "$PEER_DIR/pid" 2>/dev/null) && [[ -e /proc/$pid ]] && grep -qa "$NAME" "/proc/$pid/cmdline"; then
    kill -TERM "$pid"
    for _ in {1..100}; do
      [[ -e /proc/$pid ]] || break
      sleep 0.1
    done
  fi
  if [[ ${1:-} == --purge ]]; then rm -rf "$PEER_DIR"; fi
}

run() { # up | down [--purge]
  case "${1:-}" in
    up) mkdir -p "$PEER_DIR/files" && up ;;
    down) down "${2:-}" ;;
    *) die "usage: $0 up | down [--purge]" ;;
  esac
}
