"""Makes the documentation site: site.py FOLDER puts its pages together and has MkDocs build them, links checked; nothing is fetched."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

import typer.main
from manual import walk

from crisp_compass.cli.main import app
from crisp_compass.course.waypoints import WAYPOINTS
from crisp_compass.guide import chapters
from crisp_compass.guide.reasons import reasons

ROOT = Path(__file__).resolve().parent.parent
_TUTORIALS = ("servo", "sensorless", "stepper", "brushed", "induction")
_ABOVE = re.compile(r"\]\((?!https?:)(?:\.\./)*(?:docs/)?(ARCHITECTURE|CONTRIBUTING|CHANGELOG)\.md")


def commands() -> str:
    """Return the reference of the commands, from the parser itself."""
    lines = ["# Reference of commands", "Made from the parser; figures are taken as people type them (`20k`, `980u`)."]
    for path, command in walk(typer.main.get_command(app), ()):
        arguments = " ".join((p.metavar or p.name or "").upper() for p in command.params if p.param_type_name == "argument")
        lines += ["", f"## {' '.join(path)}", "", f"`crisp-compass {' '.join(path)} {arguments}`".replace(" `", "`"), "", (command.help or "").strip().partition("\n\n")[0], ""]
        lines += [f"- `{', '.join(o.opts)}`: {(o.help or '').replace(chr(10), ' ')}" for o in command.params if o.param_type_name == "option" and not o.hidden]
    return "\n".join(lines) + "\n"


def guide() -> dict[str, str]:
    """Return the guide, a page for each leg of the course."""
    found = {}
    for waypoint in WAYPOINTS:
        own = [c for c in chapters() if c.key == waypoint.key]
        parts = [re.sub(r"(?m)^(#+) ", r"#\1 ", c.text.strip()) for c in own]
        found[f"guide/{waypoint.key}.md"] = f"# {waypoint.name}\n\n" + "\n\n".join(parts) + "\n"
    listed = "\n\n".join(f"**{code}**  \n{text}" for code, text in sorted(reasons().items()))
    found["guide/why.md"] = f"# Why it says so\nWhat lies behind each finding and refusal, by its code.\n\n{listed}\n"
    return found


def put_together(folder: Path) -> list[object]:
    """Write every page below ``folder`` and return the navigation."""
    pages = folder / "pages"
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(ROOT / "docs", pages, ignore=shutil.ignore_patterns("README.md.j2"))
    (pages / "examples").mkdir()
    made = guide() | {"reference.md": commands()}
    for name in ("ARCHITECTURE", "CONTRIBUTING", "CHANGELOG"):
        made[f"{name}.md"] = (ROOT / f"{name}.md").read_text(encoding="utf-8").replace("](docs/", "](")
    front = (ROOT / "README.md").read_text(encoding="utf-8").replace("](docs/", "](").replace("notebooks in [examples](examples)", "notebooks in examples")
    made["index.md"] = front
    for name, text in made.items():
        (pages / name).parent.mkdir(parents=True, exist_ok=True)
        (pages / name).write_text(text, encoding="utf-8")
    for page in pages.rglob("*.md"):
        text = page.read_text(encoding="utf-8")
        up = "../" * (len(page.relative_to(pages).parts) - 1)
        page.write_text(_ABOVE.sub(rf"]({up}\1.md", text), encoding="utf-8")
    return [
        {"Start": "index.md"}, {"Demo": "demo.md"}, {"Tutorials": ["tutorials/README.md", *(f"tutorials/{n}.md" for n in _TUTORIALS)]},
        {"How to": ["how-to/README.md", *(f"how-to/{p.name}" for p in sorted((ROOT / "docs" / "how-to").glob("*.md")) if p.stem != "README")]},
        {"Guide": [*(f"guide/{w.key}.md" for w in WAYPOINTS), "guide/why.md", "drills.md"]},
        {"Reference": ["commands.md", "reference.md", "firmware.md", "drive-on-a-wire.md", "library.md"]},
        {"Theory": ["theory.md", "accuracy.md", "commutation-accuracy.md"]},
        {"Project": ["ARCHITECTURE.md", "CONTRIBUTING.md", "CHANGELOG.md", "decisions/README.md", *(f"decisions/{p.name}" for p in sorted((ROOT / "docs" / "decisions").glob("*.md")) if p.stem != "README")]},
    ]  # fmt: skip


def main() -> int:
    """Build the site into FOLDER/site; the end of MkDocs is ours."""
    folder = Path(sys.argv[1]).resolve()
    navigation = put_together(folder)
    settings = {
        "site_name": "Crisp Compass", "docs_dir": "pages", "site_dir": "site", "theme": {"name": "mkdocs", "highlightjs": False, "analytics": {}}, "nav": navigation, "plugins": ["search"], "use_directory_urls": False,
        "markdown_extensions": ["tables", "fenced_code"], "validation": {"omitted_files": "warn", "links": {"not_found": "warn", "anchors": "warn"}},
    }  # fmt: skip
    (folder / "mkdocs.yml").write_text(json.dumps(settings, indent=1), encoding="utf-8")  # JSON is YAML
    return subprocess.run([sys.executable, "-m", "mkdocs", "build", "--quiet", "--strict", "--config-file", str(folder / "mkdocs.yml")], check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
