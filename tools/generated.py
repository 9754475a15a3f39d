"""Write what is generated from the models: the schemas of bench files and of drives' descriptions, and the demo benches in the form that saving gives them.

Run: make schema.
"""

from __future__ import annotations

import json
from pathlib import Path

from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench, save_bench
from crisp_compass.drive.description import Description

ROOT = Path(__file__).parents[1]


def main() -> None:
    """Write the schemas, then every demo bench."""
    for name, model in (("bench", Bench), ("drive", Description)):
        schema = json.dumps(model.model_json_schema(), indent=2, ensure_ascii=False) + "\n"
        (ROOT / "docs" / f"{name}.schema.json").write_text(schema, encoding="utf-8")
    for path in sorted((ROOT / "demo").glob("*/*.bench.json")):
        save_bench(load_bench(path), path)


if __name__ == "__main__":
    main()
