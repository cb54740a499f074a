#!/usr/bin/env bash
# Installs everything Hedgerow needs to build, run and be tested on Debian 12. Safe to run again: it does nothing when all is there.
set -euo pipefail

packages=(
  build-essential cmake ninja-build ccache pkg-config git python3
  qt6-base-dev libqt6opengl6-dev qt6-svg-dev qt6-wayland libgl1-mesa-dev libvulkan-dev
  libqcustomplot-dev
  libeigen3-dev nlohmann-json3-dev libhdf5-dev zlib1g-dev libsqlite3-dev libspdlog-dev libfmt-dev libcli11-dev
  libgtest-dev libbenchmark-dev hdf5-tools locales
  libsuitesparse-dev libnlopt-cxx-dev
  slurmctld slurmd slurm-client munge python3-numpy python3-matplotlib
  xvfb fonts-noto-core fonts-dejavu-core
  desktop-file-utils shared-mime-info
)

missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
if [ "${#missing[@]}" -eq 0 ]; then
  echo "setup: every package is installed"
  exit 0
fi

as_root=()
if [ "$(id -u)" -ne 0 ]; then
  command -v sudo >/dev/null || { echo "setup: run me as root, or install sudo; missing: ${missing[*]}" >&2; exit 1; }
  as_root=(sudo)
fi
echo "setup: installing ${missing[*]}"
"${as_root[@]}" apt-get update -q
"${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends \
  -o DPkg::Lock::Timeout=300 "${missing[@]}"
