"""Writes the schema of the session file's parts to docs/session-schema.json.

.venv/bin/python -m bench.schema
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from nimbleload.store.session_file import schema

PATH = Path(__file__).parents[1] / "docs" / "session-schema.json"


def main() -> None:
    PATH.write_bytes(msgspec.json.format(msgspec.json.encode(schema()), indent=1) + b"\n")


if __name__ == "__main__":
    main()
