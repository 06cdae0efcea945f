# Shared by scripts/demo and scripts/test: installs what is missing and builds.
set -euo pipefail
top=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$top"

# Installs the packages of packages.txt that are missing, with apt-get, as root or with sudo.
install_missing() {
  local missing=() package
  while read -r package; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
  done < <(grep -v '^#' packages.txt)
  if [ ${#missing[@]} -eq 0 ]; then
    echo "All packages are there."
    return
  fi
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    as_root=(sudo)
    echo "Administrator rights are needed to install packages; sudo may ask for your password."
  fi
  echo "Installing ${#missing[@]} packages: ${missing[*]}"
  "${as_root[@]}" apt-get update -qq
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" > /tmp/oxgoad-install.log 2>&1 ||
    { tail -20 /tmp/oxgoad-install.log; echo "The packages could not be installed; the lines above say why."; exit 1; }
}

# build PRESET [TARGET ...]
build() {
  local preset=$1
  shift
  export CCACHE_DIR=${CCACHE_DIR:-$HOME/.cache/ccache}
  echo "Configuring ($preset)"
  mkdir -p build
  cmake --preset "$preset" > "build/configure-$preset.log" 2>&1 || { tail -30 "build/configure-$preset.log"; exit 1; }
  echo "Building ($preset); the first time takes some minutes, later ones seconds"
  NINJA_STATUS='[%p %f of %t] ' cmake --build --preset "$preset" ${1:+--target "$@"}
}
