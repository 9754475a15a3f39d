#!/usr/bin/env bash
# Installs what is missing and nothing else: Debian packages, then the virtual environment. A second call is quick.
set -euo pipefail
cd "$(dirname "$0")/.."

packages=(libegl1 libgl1 libglib2.0-0 libdbus-1-3 libfontconfig1 libxkbcommon0 libxkbcommon-x11-0 libx11-xcb1
  libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0
  libxcb-sync1 libxcb-xfixes0 libxcb-xkb1 xvfb ngspice gcc libc6-dev)
# compilers, checker and emulators that the firmware's tests use where they are there, and skip where not
[ -z "${FIRMWARE_TOOLS:-}" ] || packages+=(clang cppcheck cmake gcc-arm-none-eabi libnewlib-arm-none-eabi qemu-system-arm)
missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
python=${PYTHON:-python3}
"$python" -c 'import ensurepip, venv' 2>/dev/null || missing+=(python3-venv)
if ((${#missing[@]})); then
  echo "Installing Debian packages: ${missing[*]}"
  sudo=()
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || { echo "Run as root or install sudo: these packages are missing: ${missing[*]}" >&2; exit 1; }
    sudo=(sudo)
  fi
  "${sudo[@]}" apt-get update -q
  "${sudo[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends "${missing[@]}"
fi

stamp=".venv/ready-$(cat pyproject.toml requirements.lock | sha256sum | cut -c1-16)"
if [ ! -e "$stamp" ]; then
  echo "Setting up the Python environment in .venv (a few minutes the first time)"
  [ -x .venv/bin/python ] || "$python" -m venv .venv
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
  rm -f .venv/ready-*
  touch "$stamp"
fi
