"""The cost library: everything that was ever measured, in one SQLite file, a row a cell, written as it is made."""

from __future__ import annotations

import logging
import sqlite3
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from ..core.cards.card import (
    Cell,
    Company,
    CostCard,
    Inputs,
    Made,
    Null,
    Paced,
    Polyphony,
    Position,
    Provenance,
    Silence,
    Sweep,
    Truth,
)
from ..core.cards.slowing import Slowing
from ..core.cards.upkeep import Upkeep
from ..core.session.plugins import CardKey
from ..native.decoding import converted, decoded
from .limits import impossible
from .measured_on import of_method, this_machine

CARD_TABLE = """(
  id INTEGER PRIMARY KEY, standard TEXT NOT NULL, identifier TEXT NOT NULL, version TEXT NOT NULL,
  setting TEXT NOT NULL, channels INTEGER NOT NULL, voices INTEGER NOT NULL, machine TEXT NOT NULL,
  name TEXT NOT NULL, latency INTEGER NOT NULL, tail REAL, failure TEXT, truth BLOB, details BLOB,
  keyed INTEGER NOT NULL DEFAULT 0,
  UNIQUE (standard, identifier, version, setting, channels, voices, keyed, machine))"""
SCHEMA = f"""
CREATE TABLE IF NOT EXISTS card {CARD_TABLE};
CREATE TABLE IF NOT EXISTS cell (
  card INTEGER NOT NULL REFERENCES card(id), rate INTEGER NOT NULL, buffer INTEGER NOT NULL, condition TEXT NOT NULL,
  mean REAL NOT NULL, median REAL NOT NULL, p95 REAL NOT NULL, p99 REAL NOT NULL, p999 REAL NOT NULL,
  largest REAL NOT NULL, jitter REAL NOT NULL, quiet INTEGER NOT NULL, sequence BLOB NOT NULL, made REAL NOT NULL,
  watched REAL NOT NULL DEFAULT 0, interruptions INTEGER NOT NULL DEFAULT 0, interrupted BLOB NOT NULL DEFAULT x'',
  aside REAL NOT NULL DEFAULT 0, clock REAL NOT NULL DEFAULT 0, shared REAL NOT NULL DEFAULT 1, latency INTEGER,
  PRIMARY KEY (card, rate, buffer, condition));
"""
FORMAT = 8
# What later formats have added: since which, to which table, and what.
ADDED = (
    (2, "card", "truth BLOB"),
    (3, "card", "details BLOB"),
    (4, "cell", "watched REAL NOT NULL DEFAULT 0"),
    (4, "cell", "interruptions INTEGER NOT NULL DEFAULT 0"),
    (4, "cell", "interrupted BLOB NOT NULL DEFAULT x''"),
    (5, "cell", "aside REAL NOT NULL DEFAULT 0"),
    (6, "cell", "clock REAL NOT NULL DEFAULT 0"),
    (7, "cell", "shared REAL NOT NULL DEFAULT 1"),
    (8, "cell", "latency INTEGER"),
)
# Since when a card's key says whether a side-chain was led to it: earlier tables are made anew with that in their key.
KEYED_SINCE = 6
TYPED = "typed in"
STAND_IN = "stand-in"
KEY_COLUMNS = "standard, identifier, version, setting, channels, voices, keyed"
OF_KEY = (
    "standard=? AND identifier=? AND version=? AND setting=? AND channels=? AND voices=? AND keyed=? AND machine=?"
)

log = logging.getLogger(__name__)


class Details(msgspec.Struct, frozen=True):
    """The parts of a card that the library keeps as one JSON text."""

    company: tuple[Company, ...] = ()
    silence: Silence | None = None
    upkeep: Upkeep | None = None
    sweep: Sweep | None = None
    positions: tuple[Position, ...] = ()
    polyphony: tuple[Polyphony, ...] = ()
    listened: float | None = None
    nulls: tuple[Null, ...] = ()
    made: Made | None = None
    inputs: Inputs | None = None
    paced: tuple[Paced, ...] = ()
    slowing: tuple[Slowing, ...] = ()
    filled: float = 0.0


class LibraryError(Exception):
    """Why the cost library cannot be used, as a sentence."""


def default_path() -> Path:
    """Where the user's library lies, whether it is there or not."""
    return Path(platformdirs.user_data_dir("nimble-load")) / "library.sqlite"


class Library:
    """The cost cards measured on one machine. Each call is a transaction of its own. LibraryError if it fails."""

    def __init__(self, path: Path | None = None, machine: str | None = None) -> None:
        self.path = path or default_path()
        self.machine = machine or this_machine()
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._db = sqlite3.connect(self.path, timeout=10, isolation_level=None, check_same_thread=False)
            version = self._db.execute("PRAGMA user_version").fetchone()[0]
            if version > FORMAT:
                raise LibraryError(f"{self.path} was written by a newer version of Nimble Load; it was not touched.")
            self._db.execute("PRAGMA journal_mode=WAL")
            self._db.executescript(SCHEMA)
            for before, table, column in ADDED:
                known = {row[1] for row in self._db.execute(f"PRAGMA table_info({table})")}
                if 0 < version < before and column.split()[0] not in known:
                    self._db.execute(f"ALTER TABLE {table} ADD COLUMN {column}")
            if 0 < version < KEYED_SINCE:
                self._key_by_side_chain()
            self._db.execute(f"PRAGMA user_version={FORMAT}")
        except (sqlite3.Error, OSError) as error:
            raise LibraryError(f"The cost library {self.path} cannot be used: {error}.") from error

    def _key_by_side_chain(self) -> None:
        """Makes the table of cards anew, as one of KEYED_SINCE; the cells stay as they are."""
        with self._db:
            self._db.execute("BEGIN IMMEDIATE")
            columns = [row[1] for row in self._db.execute("PRAGMA table_info(card)")]
            if "keyed" not in columns:
                names = ", ".join(columns)
                self._db.execute(f"CREATE TABLE card_anew {CARD_TABLE}")
                self._db.execute(f"INSERT INTO card_anew ({names}) SELECT {names} FROM card")
                self._db.execute("DROP TABLE card")
                self._db.execute("ALTER TABLE card_anew RENAME TO card")

    def close(self) -> None:
        self._db.close()

    def machines(self) -> list[str]:
        """Every machine that figures are from; readings typed in by hand count as one."""
        rows = self._read("SELECT DISTINCT machine FROM card ORDER BY machine", ())
        return [row[0] for row in rows]

    def provenance(self, machine: str) -> Provenance:
        """What figures of a machine are, seen from here."""
        by_name: dict[str, Provenance] = {self.machine: "measured", TYPED: "typed", STAND_IN: "stand-in"}
        return by_name.get(machine, "elsewhere")

    def _card_row(self, card: CostCard, machine: str) -> int:
        key = card.key
        truth = msgspec.json.encode(card.truth) if card.truth is not None else None
        parts = (
            card.company, card.silence, card.upkeep, card.sweep, card.positions, card.polyphony, card.listened,
            card.nulls, card.made, card.inputs, card.paced, card.slowing, card.filled,
        )  # fmt: skip
        details = msgspec.json.encode(Details(*parts))
        self._db.execute(
            f"INSERT INTO card ({KEY_COLUMNS}, machine, name, latency, tail, failure, truth, details) "
            "VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?) "
            f"ON CONFLICT ({KEY_COLUMNS}, machine) DO UPDATE SET name=excluded.name, latency=excluded.latency, "
            "tail=excluded.tail, failure=excluded.failure, truth=excluded.truth, details=excluded.details",
            (*_columns(key), machine, card.name, card.latency, card.tail, card.failure, truth, details),
        )
        row = self._db.execute(
            f"SELECT id FROM card WHERE {OF_KEY}",
            (*_columns(key), machine),
        ).fetchone()
        return int(row[0])

    def store(self, card: CostCard, cells: Iterable[Cell] = (), machine: str | None = None) -> None:
        """Writes the facts of a card, and these cells of it in place of earlier ones; for this machine or another."""
        try:
            with self._db:
                self._db.execute("BEGIN IMMEDIATE")
                self._drop_if_made_otherwise(card, machine or self.machine)
                row = self._card_row(card, machine or self.machine)
                self._db.executemany(
                    "INSERT OR REPLACE INTO cell VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
                    [
                        (row, c.rate, c.buffer, c.condition, c.mean, c.median, c.p95, c.p99, c.p999, c.largest,
                         c.jitter, c.quiet, c.sequence, time.time(), c.watched, c.interruptions, c.interrupted, c.aside,
                         c.clock, c.shared, c.latency)
                        for c in cells
                    ],
                )  # fmt: skip
        except sqlite3.Error as error:
            raise LibraryError(f"The cost library {self.path} cannot be written: {error}.") from error

    def _drop_if_made_otherwise(self, card: CostCard, machine: str) -> None:
        """Figures made in another way, or of another file of the plugin, go before new ones come in."""
        found = self._db.execute(
            f"SELECT id, details FROM card WHERE {OF_KEY}", (*_columns(card.key), machine)
        ).fetchone()
        if found is None or card.made is None:
            return
        old = decoded(found[1], Details).made if found[1] is not None else None
        now = card.made
        if old is None or (old.method, old.size, old.modified) != (now.method, now.size, now.modified):
            self._db.execute("DELETE FROM cell WHERE card=?", (found[0],))

    def cards(self, keys: Iterable[CardKey] | None = None, machine: str | None = None) -> dict[CardKey, CostCard]:
        """The cards of this machine, or of another one: all, or those with these keys."""
        wanted = None if keys is None else set(keys)
        machine = machine or self.machine
        query = f"SELECT id, {KEY_COLUMNS}, name, latency, tail, failure, truth, details FROM card WHERE machine=?"
        found: dict[CardKey, CostCard] = {}
        for row in self._read(query, (machine,)):
            standard, identifier, version, setting, channels, voices, keyed = row[1:8]
            key = CardKey(standard, identifier, version, setting, channels, voices, bool(keyed))
            if wanted is None or key in wanted:
                card = self._card(key, row, self.provenance(machine))
                if card is not None:
                    found[key] = card
        return found

    def _card(self, key: CardKey, row: tuple[Any, ...], provenance: Provenance) -> CostCard | None:
        """A card with all that is kept of it; None, and a line in the log, if that cannot be."""
        try:
            name, latency, tail, failure, truth_kept, details = row[8:14]
            truth = decoded(truth_kept, Truth) if truth_kept is not None else None
            more = decoded(details, Details) if details is not None else Details()
            cells = self._cells(row[0], of_method(provenance, more.made))
            card = CostCard(
                key, name, cells, latency, tail, failure, truth, more.company, more.silence, more.upkeep,
                more.sweep, more.positions, more.polyphony, more.listened, more.nulls, more.made, more.inputs,
                more.paced, more.slowing, more.filled,
            )  # fmt: skip
            wrong = impossible(converted(msgspec.to_builtins(card), CostCard))
        except (msgspec.MsgspecError, UnicodeDecodeError, ValueError) as error:
            wrong = str(error)
        if wrong is not None:
            log.warning("%s: what is kept of %s is damaged and counts as not measured: %s", self.path, row[8], wrong)
            return None
        return card

    def _read(self, query: str, values: tuple[Any, ...]) -> list[Any]:
        try:
            return self._db.execute(query, values).fetchall()
        except sqlite3.Error as error:
            raise LibraryError(f"The cost library {self.path} cannot be read: {error}.") from error

    def _cells(self, row: int, provenance: Provenance) -> tuple[Cell, ...]:
        query = (
            "SELECT rate, buffer, condition, mean, median, p95, p99, p999, largest, jitter, quiet, sequence, watched, "
            "interruptions, interrupted, aside, clock, shared, latency "
            "FROM cell WHERE card=? ORDER BY rate, buffer, condition DESC"
        )
        return tuple(
            Cell(r[0], r[1], r[2], r[3], r[4], r[5], r[6], r[7], r[8], r[9], bool(r[10]), provenance, *r[11:])
            for r in self._read(query, (row,))
        )


def _columns(key: CardKey) -> tuple[str, str, str, str, int, int, bool]:
    return key.standard, key.identifier, key.version, key.setting, key.channels, key.voices, key.keyed
