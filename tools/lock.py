"""Write requirements.lock anew with the digests of every wheel that Linux may take: python tools/lock.py

The versions are those of the environment that runs this; the digests come from the package index that pip is configured with
(PEP 691), so no address stands in any file.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
import urllib.request
from importlib import metadata
from pathlib import Path

from pip._internal.models.index import PyPI

_WANTED = re.compile(r"-(py3|py2\.py3|cp3\d+|cp3\d+\.\S+)-(none|abi3|cp311|cp312|cp313|cp314)-(any|manylinux\S*_(x86_64|aarch64)\S*)\.whl$")
_LOCK = Path(__file__).resolve().parent.parent / "requirements.lock"


def _index() -> str:
    """Return the address of the package index that pip asks."""
    asked = subprocess.run([sys.executable, "-m", "pip", "config", "get", "global.index-url"], capture_output=True, text=True, check=False)
    return (asked.stdout.strip() or PyPI.simple_url).rstrip("/")


def _digests(index: str, name: str, version: str) -> list[str]:
    page = re.sub(r"[-_.]+", "-", name).lower()
    request = urllib.request.Request(f"{index}/{page}/", headers={"Accept": "application/vnd.pypi.simple.v1+json, text/html;q=0.5"})
    with urllib.request.urlopen(request) as answer:
        text, kind = answer.read().decode(), answer.headers.get_content_type()
    if kind.endswith("json"):
        files = [(f["filename"], f["hashes"].get("sha256", "")) for f in json.loads(text)["files"]]
    else:
        files = [(f, d) for d, f in re.findall(r'#sha256=([0-9a-f]{64})"[^>]*>([^<]+)</a>', text)]
    stem = re.sub(r"[-_.]+", "_", name).lower()
    mine = [(f, d) for f, d in files if re.sub(r"[-_.]+", "_", f).lower().startswith(f"{stem}_{version.replace('.', '_')}_") and _WANTED.search(f)]
    return sorted({d for _, d in mine if d})


def main() -> None:
    """Write the lock; raises SystemExit naming a package without digests."""
    index, lines = _index(), ["# Every package of the environment, pinned, with the digests of its wheels for Linux. Made with: tools/lock.py"]
    for package in sorted(metadata.distributions(), key=lambda d: d.metadata["Name"].lower()):
        name, version = package.metadata["Name"], package.version
        if name in ("crisp-compass", "pip", "setuptools", "wheel"):
            continue
        found = _digests(index, name, version)
        if not found:
            raise SystemExit(f"{name} {version}: the index names no wheel for Linux")
        lines.append(f"{name}=={version} \\\n" + " \\\n".join(f"    --hash=sha256:{d}" for d in found))
    _LOCK.write_text("\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
