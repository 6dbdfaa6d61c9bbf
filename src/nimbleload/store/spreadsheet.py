"""The cost library as CSV, with units in the header: out to a spreadsheet, and in from one."""

from __future__ import annotations

import csv
import io
import itertools
import math
from pathlib import Path

from ..core.cards.card import MEASURED, METHOD, Cell, CostCard, Made
from ..core.session.plugins import CardKey
from .library import Library, LibraryError

KEY_COLUMNS = ("standard", "identifier", "version", "setting", "channels", "voices", "keyed")
TIME_COLUMNS = ("mean", "median", "p95", "p99", "p999", "largest", "jitter", "clock")
HEADER = (
    "machine", "name", *KEY_COLUMNS, "rate (Hz)", "buffer (samples)", "condition",
    *(f"{name} (µs)" for name in TIME_COLUMNS), "quiet", "shared (times)", "way of measuring",
    "latency (samples)",
)  # fmt: skip
NEEDED = ("machine", "identifier", "rate (Hz)", "buffer (samples)", "mean (µs)")
LONGEST_SECONDS, MOST_SHARED = 100.0, 1e6
MOST_BYTES = 256 << 20


def export(library: Library) -> str:
    """Every cell of every machine in the library, a row each."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(HEADER)
    for machine in library.machines():
        for card in library.cards(machine=machine).values():
            key = [*(getattr(card.key, name) for name in KEY_COLUMNS[:-1]), "yes" if card.key.keyed else "no"]
            for cell in card.cells:
                times = [f"{getattr(cell, name) * 1e6:.4f}" for name in TIME_COLUMNS]
                quiet = "yes" if cell.quiet else "no"
                way = card.made.method if card.made is not None else ""
                told = [quiet, f"{cell.shared:.3f}", way, "" if cell.latency is None else cell.latency]
                writer.writerow([machine, card.name, *key, cell.rate, cell.buffer, cell.condition, *times, *told])
    return out.getvalue()


def read(path: Path, library: Library) -> int:
    """Takes a file in; how many rows. LibraryError says why not, OSError that it cannot be read."""
    if path.stat().st_size > MOST_BYTES:
        raise LibraryError(f"{path} is larger than {MOST_BYTES >> 20} MB: no cost library. Nothing was taken in.")
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise LibraryError(f"{path} is no text in UTF-8: {error.reason} at byte {error.start}.") from error
    return import_(text, library)


def import_(text: str, library: Library) -> int:
    """Takes in rows as `export` writes them; how many. Only `NEEDED` columns must be there.

    LibraryError names the row and what is wrong with it; then nothing of the file has been taken in. Rows that say
    they are from this machine are stored as such.
    """
    reader = csv.DictReader(io.StringIO(text))
    try:
        columns = reader.fieldnames or ()
    except csv.Error as error:
        raise LibraryError(f"Row 1: {error}. Nothing was taken in.") from error
    missing = [name for name in NEEDED if name not in columns]
    if missing:
        raise LibraryError(f"The first row names no column {', '.join(repr(name) for name in missing)}.")
    found: list[tuple[str, CostCard, Cell]] = []
    rows = iter(reader)
    for number in itertools.count(2):
        try:
            found.append(_read(next(rows)))
        except StopIteration:
            break
        except (ValueError, TypeError, csv.Error) as error:
            raise LibraryError(f"Row {number}: {error}. Nothing was taken in.") from error
    for machine, card, cell in found:
        library.store(card, [cell], machine)
    return len(found)


def _read(row: dict[str, str]) -> tuple[str, CostCard, Cell]:
    """One row, checked. ValueError says what cannot be."""
    condition = row.get("condition") or "sounding"
    if condition not in MEASURED:
        raise ValueError(f"the condition {condition!r} is not known")
    times = {name: _seconds(row, name) for name in TIME_COLUMNS}
    rate, buffer = _whole(row, "rate (Hz)", 1000, 1_000_000), _whole(row, "buffer (samples)", 1, 65536)
    key = CardKey(
        row.get("standard") or "", row["identifier"], row.get("version") or "", row.get("setting") or "",
        _whole(row, "channels", 0, 256, 2), _whole(row, "voices", 0, 256, 0),
        row.get("keyed") == "yes",
    )  # fmt: skip
    if not row["machine"] or not key.identifier:
        raise ValueError("machine and identifier must be given")
    late = _whole(row, "latency (samples)", 0, 1_000_000_000) if row.get("latency (samples)") else None
    is_quiet = row.get("quiet") != "no"
    cell = Cell(rate, buffer, condition, **times, quiet=is_quiet, shared=_shared(row), latency=late)  # type: ignore[arg-type]
    made = Made(_whole(row, "way of measuring", 1, METHOD)) if row.get("way of measuring") else None
    return row["machine"], CostCard(key, row.get("name") or key.identifier, made=made), cell


def _seconds(row: dict[str, str], name: str) -> float:
    text = row.get(f"{name} (µs)") or ("" if name == "mean" else "0")
    value = _number(text, name) / 1e6
    if not (math.isfinite(value) and 0 <= value <= LONGEST_SECONDS):
        raise ValueError(f"{name} is {text!r} µs, which is not possible")
    return value


def _number(text: str, name: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise ValueError(f"{name} is {text!r}, which is no number") from None


def _shared(row: dict[str, str]) -> float:
    """How many times as long others made it take; 1 where that is not given."""
    text = row.get("shared (times)") or "1"
    value = _number(text, "shared")
    if not 1 <= value <= MOST_SHARED:
        raise ValueError(f"shared is {text!r} times; it must be from 1 to {MOST_SHARED:.0f}")
    return value


def _whole(row: dict[str, str], name: str, least: int, most: int, default: int | None = None) -> int:
    text = row.get(name)
    if not text and default is not None:
        return default
    if text is None or not text.strip().isdigit() or not least <= int(text) <= most:
        raise ValueError(f"{name} is {text!r}; it must be a whole number from {least} to {most}")
    return int(text)
