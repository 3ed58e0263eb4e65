# Shared by ./demo and ./check: what must be installed, and how it is built. Sourced, not run.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

BUILD_PACKAGES='g++ cmake ninja-build pkg-config git ca-certificates libfuse3-dev fuse3 libcurl4-openssl-dev
  libsqlite3-dev libpugixml-dev nlohmann-json3-dev libtomlplusplus-dev libcli11-dev libfmt-dev libspdlog-dev
  libssl-dev libcpp-httplib-dev libsystemd-dev libsecret-1-dev libmicrohttpd-dev libssh-dev libutf8proc-dev'
TEST_PACKAGES='libgtest-dev libgmock-dev libbenchmark-dev openssl curl attr python3'

say() { printf '== %d:%02d %s\n' $((SECONDS / 60)) $((SECONDS % 60)) "$*"; }  # since the start
die() { printf '%s\n' "$*" >&2; exit 1; }

# Installs what is missing, and nothing if nothing is.
need_packages() {
  local package missing=()
  for package in "$@"; do
    dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null | grep -qx installed || missing+=("$package")
  done
  ((${#missing[@]})) || return 0
  local as_root=()
  if [[ $(id -u) != 0 ]]; then
    command -v sudo >/dev/null || die "These packages are missing, and only root can install them: ${missing[*]}"
    as_root=(sudo)
  fi
  say "installing ${missing[*]}"
  local log
  log=$(mktemp)
  { "${as_root[@]}" apt-get -qq update &&
    "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get -qq -o DPkg::Lock::Timeout=600 \
      install -y --no-install-recommends "${missing[@]}"; } >"$log" 2>&1 || { tail -20 "$log" >&2; die "apt-get failed"; }
  rm -f "$log"
}

# build PRESET [CMAKE-OPTION...]; with $target only that
build() {
  local preset=$1 log
  shift
  mkdir -p build
  log=build/$preset.log
  say "building $preset"
  { cmake --preset "$preset" "$@" && cmake --build --preset "$preset" ${target:+--target "$target"}; } >"$log" 2>&1 || {
    grep -E 'error|Error|FAILED' -A 5 "$log" | head -60 >&2
    die "the build failed: see $log"
  }
}

# Tests that mount need FUSE.
fuse_works() { [[ -r /dev/fuse && -w /dev/fuse ]]; }

# Makes the packages of build/release, and an archive of the sources that are committed: the same
# bytes each time.
make_packages() {
  local version
  version=$(sed -n 's/^project(pargeter VERSION \([0-9.]*\).*/\1/p' CMakeLists.txt)
  rm -rf build/packages
  mkdir -p build/packages
  (cd build/release && cpack -B ../packages) >build/packages.log 2>&1 || { tail -20 build/packages.log >&2; die "cpack failed"; }
  rm -rf build/packages/_CPack_Packages
  git archive --format=tar --prefix="pargeter-$version/" HEAD | gzip -9n >"build/packages/pargeter-$version.tar.gz"
}
