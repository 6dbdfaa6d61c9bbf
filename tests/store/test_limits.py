"""Numbers that cannot be are stopped at the border; what was good stays as it was."""

from __future__ import annotations

import json
import logging
import os
import sqlite3
import time
import zipfile
from pathlib import Path

import msgspec
import pytest
from click.testing import CliRunner

from nimbleload.core.cards.card import Cell, Company, CostCard, Inputs, Polyphony
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import CardKey
from nimbleload.shell import cli
from nimbleload.store import atomic, session_file, spreadsheet
from nimbleload.store.library import Library, LibraryError
from nimbleload.store.limits import impossible
from nimbleload.store.session_file import Saved, SessionFileError
from tests.helpers import exchange as x
from tests.helpers.sessions import session, track

KEY = CardKey("clap", "org.a", "1", "", 2, 0)
GOOD = CostCard(KEY, "A", (Cell(48000, 256, "sounding", 1e-5),))


@pytest.fixture
def path(tmp_path):
    found = tmp_path / "a.nimbleload"
    session_file.write(found, Saved(session(track("t")), Plan(), (GOOD,), Machine(4)))
    return found


def changed(path, part, change):
    """The file with one part of it changed by a function on its JSON."""
    with zipfile.ZipFile(path) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    found = json.loads(parts[part])
    parts[part] = json.dumps(change(found)).encode()
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return path


def test_a_part_of_what_is_not_there_is_refused(path):
    def dangling(of):
        of["strips"][0]["part_of"] = "nowhere"
        return of

    with pytest.raises(SessionFileError, match="“t” is said to be a part of another one"):
        session_file.read(changed(path, "session.json", dangling))


@pytest.mark.parametrize(
    ("field", "value", "words"),
    [
        ("parts", 10**6, "parts is 1000000; it can be from 1 to 256"),
        ("parts", 0, "parts is 0"),
        ("cores_left_free", -(10**6), "cores left free is -1000000"),
        ("strip_overhead", -1e-3, "strip overhead is -0.001"),
        ("plugin_factor", 0.0, "plugin factor is 0"),
        ("read_ahead", -5, "read ahead is -5"),
    ],
)
def test_a_host_that_cannot_be_is_refused_with_its_place(path, field, value, words):
    before = changed(path, "session.json", lambda s: {**s, "host": {field: value}}).read_bytes()
    with pytest.raises(SessionFileError, match="host") as error:
        session_file.read(path)
    assert words in str(error.value) and str(path) in str(error.value)
    assert path.read_bytes() == before


@pytest.mark.parametrize(
    ("card", "words"),
    [
        (msgspec.structs.replace(GOOD, latency=-5), "latency is -5"),
        (msgspec.structs.replace(GOOD, cells=(Cell(48000, 256, "sounding", -1.0),)), "mean is -1.0"),
        (msgspec.structs.replace(GOOD, cells=(Cell(48000, 256, "sounding", 1e300),)), "mean is 1e+300"),
        (msgspec.structs.replace(GOOD, company=(Company(48000, 256, (0, 1), (1e-5,)),)), "over 2 places has 1 costs"),
        (msgspec.structs.replace(GOOD, company=(Company(48000, 256, (), ()),)), "a curve over 0 places"),
        (msgspec.structs.replace(GOOD, inputs=Inputs(48000, 512, 1e-5, -1.0, 1e-5)), "short is -1"),
        (msgspec.structs.replace(GOOD, polyphony=(Polyphony(48000, 256, (2, 1), (1e-5, 2e-5)),)), "do not ascend"),
        (msgspec.structs.replace(GOOD, polyphony=(Polyphony(48000, 256, (1, 2), (1e-5, -1.0)),)), "not possible"),
    ],
)  # fmt: skip
def test_a_card_that_cannot_be_is_found(card, words):
    assert words in (impossible(card) or "")
    assert impossible(GOOD) is None


def test_infinite_and_other_numbers_are_found_wherever_they_are():
    assert "is inf" in (impossible(msgspec.structs.replace(GOOD, tail=float("inf"))) or "")
    assert "is nan" in (impossible((1.0, (2.0, float("nan")))) or "")
    assert impossible(("a", b"b", True, None, 3)) is None


def test_text_that_is_no_text_is_a_sentence(path):
    with zipfile.ZipFile(path, "a") as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    parts["session.json"] = b'{"name":"\xff\xfe"}'
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    with pytest.raises(SessionFileError, match=r"session\.json is not understood"):
        session_file.read(path)


def test_an_archive_of_a_later_kind_is_a_sentence(path):
    content = bytearray(path.read_bytes())
    content[content.index(b"PK\x01\x02") + 6] = 99
    path.write_bytes(bytes(content))
    with pytest.raises(SessionFileError, match="damaged or no session file"):
        session_file.read(path)


def test_what_could_not_be_read_again_is_not_written(path, monkeypatch):
    before = path.read_bytes()
    monkeypatch.setattr(session_file, "LARGEST_ENTRY", 1000)
    many = session(*(track(f"t{k}") for k in range(50)))
    with pytest.raises(SessionFileError, match="too large to be kept"):
        session_file.write(path, Saved(many))
    assert path.read_bytes() == before


def test_a_second_save_works_without_hard_links(path, monkeypatch):
    def refused(*_):
        raise OSError(1, "not here")

    monkeypatch.setattr(os, "link", refused)
    before = path.read_bytes()
    session_file.write(path, Saved(session(track("other"))))
    assert path.with_name(path.name + atomic.BACKUP_SUFFIX).read_bytes() == before
    assert session_file.read(path).session.strips[0].id == "other"


def test_a_link_is_followed_not_replaced(path, tmp_path):
    link = tmp_path / "link.nimbleload"
    link.symlink_to(path)
    session_file.write(link, Saved(session(track("other"))))
    assert link.is_symlink()
    assert session_file.read(path).session.strips[0].id == "other"


def test_what_killed_saves_left_behind_goes_after_a_while(path):
    fresh, stale, foreign = (
        path.parent / name for name in (f".{path.name}.abcdefgh", f".{path.name}.stale123", ".other.abcdefgh")
    )
    for left in (fresh, stale, foreign):
        left.write_text("half")
    os.utime(stale, (time.time() - 7200,) * 2)
    os.utime(foreign, (time.time() - 7200,) * 2)
    session_file.write(path, Saved(session(track("t"))))
    assert fresh.exists() and foreign.exists() and not stale.exists()


def test_a_clock_that_jumps_takes_no_file_away_that_is_being_written(path, monkeypatch):
    begun = time.time()
    with atomic.replacing(path) as fresh:
        fresh.write_bytes(b"first")
        monkeypatch.setattr(time, "time", lambda: begun + 1e9)
        atomic.write(path, b"second")
    assert path.read_bytes() == b"first"
    # What was written is no longer held.
    before = len(list(Path("/proc/self/fd").iterdir()))
    atomic.write(path, b"third")
    assert len(list(Path("/proc/self/fd").iterdir())) == before
    assert [each.name for each in path.parent.iterdir()] == [path.name]


def test_import_does_not_write_over_a_session_unasked(tmp_path):
    file = x.write(tmp_path / "a.dawproject", x.project(x.track("t", "T", x.channel("c")) + x.main_track()))
    target = tmp_path / "a.nimbleload"
    session_file.write(target, Saved(session(track("precious"))))
    said = CliRunner().invoke(cli, ["import", str(file)])
    assert said.exit_code == 1 and "--replace writes over it" in said.output
    assert session_file.read(target).session.strips[0].id == "precious"
    assert CliRunner().invoke(cli, ["import", str(file), "--replace"]).exit_code == 0
    assert session_file.read(target).session.strips[0].id == "t"


class TestLibrary:
    def stored(self, tmp_path):
        library = Library(tmp_path / "l.sqlite")
        library.store(GOOD, GOOD.cells)
        other = msgspec.structs.replace(GOOD, key=msgspec.structs.replace(KEY, identifier="org.b"), name="B")
        library.store(other, other.cells)
        return library

    @pytest.mark.parametrize(
        "damage",
        [
            "UPDATE card SET details='{\"company\": 5}' WHERE name='A'",
            "UPDATE card SET details=x'ff' WHERE name='A'",
            "UPDATE card SET truth='no' WHERE name='A'",
            "UPDATE cell SET mean=-4 WHERE card=(SELECT id FROM card WHERE name='A')",
            "UPDATE cell SET mean='much' WHERE card=(SELECT id FROM card WHERE name='A')",
            "UPDATE card SET latency=-1e300 WHERE name='A'",
        ],
    )
    def test_a_damaged_card_counts_as_not_measured_and_the_others_stay(self, tmp_path, damage, caplog):
        library = self.stored(tmp_path)
        with sqlite3.connect(tmp_path / "l.sqlite") as store:
            store.execute(damage)
        with caplog.at_level(logging.WARNING):
            assert [card.name for card in library.cards().values()] == ["B"]
        assert "damaged and counts as not measured" in caplog.text

    def test_a_field_without_end_is_a_sentence_with_its_row(self, tmp_path):
        library = self.stored(tmp_path)
        text = spreadsheet.export(library)
        head, first = text.splitlines()[:2]
        with pytest.raises(LibraryError, match="Row 3: field larger"):
            spreadsheet.import_(f"{head}\n{first}\n" + first.replace("org.a", "x" * 200_000), library)
        with pytest.raises(LibraryError, match="Row 1: field larger"):
            spreadsheet.import_("x" * 200_000 + f",{head}\n{first}\n", library)


def test_the_library_keeps_what_other_input_costs(tmp_path):
    card = msgspec.structs.replace(GOOD, inputs=Inputs(48000, 512, 1e-5, 2e-5, 3e-5))
    library = Library(tmp_path / "library.sqlite", "here")
    library.store(card, card.cells)
    assert library.cards()[card.key].inputs == card.inputs
