# SPDX-License-Identifier: MIT
# Shared by the two commands of the README: installs what is missing on a Debian machine, configures, builds.
set -euo pipefail
root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)

install_packages() {
    local wanted=(g++ cmake ninja-build libboost1.81-dev libexpected-dev libfmt-dev libcli11-dev nlohmann-json3-dev
        zlib1g-dev liblzma-dev libzstd-dev liblz4-dev libbz2-dev libssl-dev libgcrypt20-dev libxxhash-dev libpugixml-dev libfdt-dev "$@")
    local missing=()
    for package in "${wanted[@]}"; do
        dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q '^install ok installed$' || missing+=("$package")
    done
    [ ${#missing[@]} -eq 0 ] && return 0
    local as_root=()
    [ "$(id -u)" -eq 0 ] || as_root=(sudo)
    echo "installing: ${missing[*]}"
    "${as_root[@]}" apt-get update -qq
    DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

build() {
    local preset=$1
    shift
    (cd "$root" && cmake --preset "$preset" "$@" >/dev/null && cmake --build --preset "$preset" -- -j "$(nproc)" | tail -n 1)
}
