"""Write what is generated from the models: the schema of bench files, and the demo benches in the form that saving gives them.

Run: make schema.
"""

from __future__ import annotations

import json
from pathlib import Path

from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench, save_bench

ROOT = Path(__file__).parents[1]


def main() -> None:
    """Write the schema, then every demo bench."""
    schema = json.dumps(Bench.model_json_schema(), indent=2, ensure_ascii=False) + "\n"
    (ROOT / "docs" / "bench.schema.json").write_text(schema, encoding="utf-8")
    for path in sorted((ROOT / "demo").glob("*/*.bench.json")):
        save_bench(load_bench(path), path)


if __name__ == "__main__":
    main()
