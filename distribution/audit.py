"""Asks the package registry about what is locked.  python -m distribution.audit

Ends with 1 if something that is locked has been withdrawn (yanked) or is no longer offered; newer versions are only
listed. Known holes are not in what the registry offers: release notes are read by whoever raises a version.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

LOCK = Path(__file__).parents[1] / "requirements.lock"
PIP = [sys.executable, "-m", "pip", "--disable-pip-version-check", "install", "--dry-run", "--no-deps"]


def offered(*what: str) -> list[dict[str, Any]]:
    """What pip would install of this, as it reports it. CalledProcessError with its words if it is not offered."""
    command = [*PIP, "--ignore-installed", "--quiet", "--report", "-", *what]
    return json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)["install"]


def main() -> int:
    try:
        locked = offered("--require-hashes", "-r", str(LOCK))
    except subprocess.CalledProcessError as error:
        print(f"Not all that is locked is offered any more:\n{error.stderr}")
        return 1
    names = {of["metadata"]["name"]: of for of in locked}
    newest = {of["metadata"]["name"]: of["metadata"]["version"] for of in offered(*names)}
    withdrawn = [name for name, of in names.items() if of.get("is_yanked")]
    for name, of in sorted(names.items(), key=lambda item: item[0].lower()):
        version, new = of["metadata"]["version"], newest.get(name, "?")
        newer = "" if new == version else f"newest {new}"
        print(f"{name:24} {version:12} {'withdrawn' if name in withdrawn else newer}")
    print(f"{len(names)} packages, {len(withdrawn)} withdrawn")
    return bool(withdrawn)


if __name__ == "__main__":
    sys.exit(main())
