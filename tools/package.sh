#!/usr/bin/env bash
# Makes wheel, source archive and Debian package in dist/ (or $DIST). The package carries every part it needs but Python 3.11 and the system's libraries.
set -euo pipefail
cd "$(dirname "$0")/.."
dist=${DIST:-dist}
python=.venv/bin/python
version=$("$python" -c 'import crisp_compass; print(crisp_compass.__version__)')
arch=$(dpkg --print-architecture)
mkdir -p "$dist"
dist=$(cd "$dist" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

echo "== wheel and source archive =="
"$python" -m pip install --quiet --disable-pip-version-check --target "$work/build" "$(sed -n 's/^requires = \["\(.*\)"\]/\1/p' pyproject.toml)"
cp -r src pyproject.toml README.md LICENSE packaging demo docs "$work/"
(cd "$work" && rm -rf src/*.egg-info && PYTHONPATH="$work/build" "$OLDPWD/$python" -c "
import setuptools.build_meta as build
print(build.build_wheel('$dist')); print(build.build_sdist('$dist'))" | tail -2)

echo "== Debian package =="
root="$work/root"
lib="$root/usr/lib/crisp-compass"
share="$root/usr/share"
mkdir -p "$lib" "$root/usr/bin" "$root/DEBIAN" "$share/applications" "$share/mime/packages" "$share/metainfo" "$share/icons/hicolor/scalable/apps" \
  "$share/man/man1" "$share/bash-completion/completions" "$share/zsh/vendor-completions" "$share/fish/vendor_completions.d" "$share/doc/crisp-compass"
"$python" -m pip install --quiet --disable-pip-version-check --no-compile --require-hashes --target "$lib" -r <("$python" tools/runtime_lock.py)
rm -rf "$lib/bin" "$lib/share"
"$python" -m pip install --quiet --disable-pip-version-check --no-compile --no-deps --target "$lib" "$dist/crisp_compass-$version-py3-none-any.whl"
rm -rf "$lib/bin"
cp -r "$lib/share/." "$share/"
rm -rf "$lib/share"
cat > "$root/usr/bin/crisp-compass" <<'LAUNCHER'
#!/bin/sh
# Finds its parts beside itself, so that it runs from any root.
here=$(dirname "$(readlink -f "$0")")
PYTHONPATH="$here/../lib/crisp-compass${PYTHONPATH:+:$PYTHONPATH}" exec "${PYTHON:-python3.11}" -m crisp_compass "$@"
LAUNCHER
chmod 755 "$root/usr/bin/crisp-compass"
"$python" tools/manual.py "$work/manual"
gzip -9n < "$work/manual/crisp-compass.1" > "$share/man/man1/crisp-compass.1.gz"
cp "$work/manual/crisp-compass.bash" "$share/bash-completion/completions/crisp-compass"
cp "$work/manual/_crisp-compass" "$share/zsh/vendor-completions/"
cp "$work/manual/crisp-compass.fish" "$share/fish/vendor_completions.d/"
cp packaging/crisp-compass.desktop "$share/applications/"
cp packaging/crisp-compass-bench.xml "$share/mime/packages/"
cp packaging/crisp-compass.metainfo.xml "$share/metainfo/"
cp src/crisp_compass/app/assets/crisp-compass.svg "$share/icons/hicolor/scalable/apps/"
{ cat LICENSE; echo; echo "Parts that are in this package, with their licences:"; echo; "$python" -c 'from crisp_compass.licences import as_text; print(as_text())'; } > "$share/doc/crisp-compass/copyright"
gzip -9n < CHANGELOG.md > "$share/doc/crisp-compass/changelog.gz"
size=$(du -sk "$root/usr" | cut -f1)
cat > "$root/DEBIAN/control" <<CONTROL
Package: crisp-compass
Version: $version
Architecture: $arch
Maintainer: The Crisp Compass founders <founders@localhost>
Installed-Size: $size
Depends: python3.11, libegl1, libgl1, libglib2.0-0, libdbus-1-3, libfontconfig1, libxkbcommon0, libxkbcommon-x11-0, libxcb-cursor0, libxcb-icccm4, libxcb-image0, libxcb-keysyms1, libxcb-randr0, libxcb-render-util0, libxcb-shape0, libxcb-sync1, libxcb-xfixes0, libxcb-xkb1
Recommends: gcc
Section: electronics
Priority: optional
Description: navigator of the motor bench
 Captures and readings in; motor constants with honest error bars, settings in
 the firmware's own numbers, a faster-than-real-time prediction and a record out.
CONTROL
# compiled files that Python leaves beside its modules go with the package
cat > "$root/DEBIAN/prerm" <<'PRERM'
#!/bin/sh
set -e
find "${DPKG_ROOT:-}/usr/lib/crisp-compass" -name __pycache__ -type d -prune -exec rm -rf {} + 2>/dev/null || true
PRERM
chmod 755 "$root/DEBIAN/prerm"
dpkg-deb --root-owner-group -Zgzip -z1 --build "$root" "$dist/crisp-compass_${version}_$arch.deb"
ls -l "$dist"
