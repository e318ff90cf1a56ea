# Shared by the scripts: where the project is, what it needs, how it is built. Sourced, not run.
set -euo pipefail
root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$root"

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi
}

# Installs what scripts/packages.txt lists and the machine does not have; with a word, also what that script needs.
install_packages() {
  local wanted missing=()
  wanted=$(awk -v group="${1:-}" '!/^[[:space:]]*(#|$)/ && (NF == 1 || $2 == group) {print $1}' scripts/packages.txt)
  for package in $wanted; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
  done
  [ ${#missing[@]} = 0 ] && return 0
  echo "installing: ${missing[*]}"
  as_root apt-get update -qq
  as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

# build [PRESET]: release, asan or tsan.
build() {
  local preset=${1:-release}
  cmake --preset "$preset" >/dev/null
  cmake --build --preset "$preset" -j "$(nproc)"
}
