"""Our own files: what is written is read again, a failed write loses nothing, a strange file is refused."""

from __future__ import annotations

import os
import random
import sqlite3
import subprocess
import sys
import threading
import time
import zipfile
from contextlib import closing
from pathlib import Path

import msgspec
import pytest

from nimbleload.core.cards.card import METHOD, Made, Truth
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip
from nimbleload.probe import session_run
from nimbleload.store import atomic, measured_on, session_file, spreadsheet
from nimbleload.store.archive import ImportRefusedError
from nimbleload.store.library import Library, LibraryError
from nimbleload.store.opening import known_cards, open_session
from nimbleload.store.recovery import Recovery, discard, left_behind, recover
from nimbleload.store.session_file import Saved, SessionFileError
from tests.helpers.sessions import card, random_cards, random_session, session, setting, track, use


def saved(seed: int = 1) -> Saved:
    rng = random.Random(seed)
    of = random_session(rng)
    plan = Plan().decide(Decision("freeze", of.strips[0].id, through=0)).decide(Decision("off", of.strips[1].id))
    return Saved(of, plan, tuple(random_cards(rng, of).values()), Machine(6, 0.8), 128)


class TestSessionFile:
    def test_what_is_written_is_read_again(self, tmp_path):
        path = tmp_path / "a.nimbleload"
        session_file.write(path, saved())
        assert session_file.read(path) == saved()

    def test_what_another_computer_has_measured_was_not_measured_here(self, tmp_path, monkeypatch):
        path, of = tmp_path / "a.nimbleload", session(track("a", "eq", "comp", "odd", "broken"))
        eq, comp, odd, broken = (card(each, 1e-4) for each in of.strip("a").inserts)
        provenances = ("measured", "first", "earlier", "sample", "typed", "stand-in", "seen", "elsewhere")
        cells = tuple(
            msgspec.structs.replace(cell, provenance=each) for cell, each in zip(eq.cells, provenances, strict=False)
        )
        eq = msgspec.structs.replace(eq, cells=cells)
        comp = msgspec.structs.replace(comp, made=Made(METHOD - 1))
        odd = msgspec.structs.replace(odd, failure="crashed: SIGSEGV")
        broken = msgspec.structs.replace(broken, cells=(), failure="not installed here")
        monkeypatch.setattr(measured_on.platform, "node", lambda: "studio")
        session_file.write(path, Saved(of, cards=(eq, comp, odd, broken)))

        def told():
            return [[cell.provenance for cell in each.cells] for each in session_file.read(path).cards]

        count = len(comp.cells)
        assert told() == [list(provenances), ["earlier"] * count, ["measured"] * count, []]
        assert [each.failure for each in session_file.read(path).cards[2:]] == [odd.failure, broken.failure]
        monkeypatch.setattr(measured_on.platform, "node", lambda: "laptop")
        assert told() == [["elsewhere"] * 3 + list(provenances[3:]), *[["elsewhere"] * count] * 2, []]
        assert [each.failure for each in session_file.read(path).cards[2:]] == [None, None]
        # So that all of it is left to measure here; its costs are what there is until then.
        store = Library(tmp_path / "l.sqlite")
        known = known_cards(of, store, {each.key: each for each in session_file.read(path).cards})
        assert len(session_run.jobs(of, known)) == 4
        assert known[comp.key].cost(48000, 256, "sounding") == (1e-4, "elsewhere")

    def test_whose_figures_they_are_is_not_known_of_earlier_files(self, tmp_path):
        path, of = tmp_path / "a.nimbleload", session(track("a", "eq"))
        session_file.write(path, Saved(of, cards=(card(use("eq"), 1e-4),)))
        with zipfile.ZipFile(path) as archive:
            parts = {name: archive.read(name) for name in archive.namelist()}
        view = msgspec.json.decode(parts["view.json"])
        del view["measured_on"]
        with zipfile.ZipFile(path, "w") as archive:
            for name, content in {**parts, "view.json": msgspec.json.encode(view)}.items():
                archive.writestr(name, content)
        (found,) = session_file.read(path).cards
        assert {cell.provenance for cell in found.cells} == {"elsewhere"}

    def test_states_survive_to_the_byte(self, tmp_path):
        state = bytes(range(256)) * 10
        strip = track("a")
        strip = msgspec.structs.replace(
            strip, inserts=(use("eq", setting=msgspec.structs.replace(setting(), state=state)),)
        )
        path = tmp_path / "a.nimbleload"
        session_file.write(path, Saved(session(strip)))
        assert session_file.read(path).session.strips[0].inserts[0].setting.state == state

    def test_what_a_session_was_made_from_is_found_where_it_lies_now(self, tmp_path, monkeypatch):
        """Named as seen from another folder, as by a shell; moved along with the session; gone; and where it was."""
        (home := tmp_path / "mix").mkdir()
        (home / "a.dawproject").write_bytes(b"")

        def source_of(source: str, folder: Path = home) -> str:
            session_file.write(folder / "a.nimbleload", Saved(msgspec.structs.replace(saved().session, source=source)))
            return session_file.read(folder / "a.nimbleload").session.source

        monkeypatch.chdir(home)
        assert source_of("a.dawproject", Path()) == str(home / "a.dawproject")
        assert source_of("mix/a.dawproject") == str(home / "a.dawproject")
        assert source_of("/elsewhere/a.dawproject") == str(home / "a.dawproject")
        assert source_of("/elsewhere/b.dawproject") == "/elsewhere/b.dawproject" and source_of("") == ""
        # What is only missing is not taken for another one of its name.
        assert source_of(str(tmp_path / "a.dawproject")) == str(tmp_path / "a.dawproject")
        (other := tmp_path / "a.dawproject").write_bytes(b"")
        assert source_of(str(other)) == str(other)

    def test_what_its_clips_play_is_found_where_the_session_was_moved_to(self, tmp_path):
        (stems := tmp_path / "mix" / "stems" / "Drums").mkdir(parents=True)
        for name in ("a.wav", "part #1.mid"):
            (stems / name).write_bytes(b"")
        files = {"audio": str(stems / "a.wav"), "notes": f"{stems / 'part #1.mid'}#0.1"}
        packed = Clip(0, 1, "audio", file="audio/a.wav")
        clips = (*(Clip(0, 1, kind, file=file) for kind, file in files.items()), packed)
        playing = msgspec.structs.replace(track("t"), clips=clips)
        session_file.write(tmp_path / "mix" / "a.nimbleload", Saved(session(playing)))
        here = session_file.read(tmp_path / "mix" / "a.nimbleload").session
        assert here.strip("t").clips == clips
        (tmp_path / "mix").rename(tmp_path / "moved")
        moved = session_file.read(tmp_path / "moved" / "a.nimbleload").session.strip("t").clips
        there = [each.replace(str(tmp_path / "mix"), str(tmp_path / "moved")) for each in files.values()]
        assert [clip.file for clip in moved] == [*there, "audio/a.wav"]
        (tmp_path / "moved" / "stems" / "Drums" / "a.wav").unlink()
        lost = session_file.read(tmp_path / "moved" / "a.nimbleload").session.strip("t").clips
        assert lost[0].file == files["audio"] and lost[1:] == moved[1:]

    def test_the_version_before_is_kept(self, tmp_path):
        path = tmp_path / "a.nimbleload"
        session_file.write(path, saved(1))
        session_file.write(path, saved(2))
        assert session_file.read(path) == saved(2)
        assert session_file.read(tmp_path / "a.nimbleload.bak") == saved(1)

    def test_a_write_that_fails_leaves_the_old_file_and_nothing_else(self, tmp_path, monkeypatch):
        path = tmp_path / "a.nimbleload"
        session_file.write(path, saved(1))

        def full(*args):
            raise OSError(28, "No space left on device")

        monkeypatch.setattr(atomic.os, "fsync", full)
        with pytest.raises(SessionFileError, match=r"was not written: No space left.*old file is as it was"):
            session_file.write(path, saved(2))
        monkeypatch.undo()
        assert session_file.read(path) == saved(1)
        assert [p.name for p in tmp_path.iterdir()] == ["a.nimbleload"]

    def test_a_folder_that_does_not_exist_is_said(self, tmp_path):
        with pytest.raises(SessionFileError, match=r"was not written: No such file or directory\.$"):
            session_file.write(tmp_path / "no" / "a.nimbleload", saved())

    def rewritten(self, tmp_path, name, content):
        """A session file with one entry replaced, or left out with None."""
        path = tmp_path / "a.nimbleload"
        session_file.write(path, saved())
        with zipfile.ZipFile(path) as archive:
            entries = {n: archive.read(n) for n in archive.namelist()}
        entries[name] = content
        with zipfile.ZipFile(path, "w") as archive:
            for n, c in entries.items():
                if c is not None:
                    archive.writestr(n, c)
        return path

    @pytest.mark.parametrize(
        ("name", "content", "words"),
        [
            ("manifest.json", b'{"format":"nimble-load-session","version":99}', "written by a newer version"),
            ("manifest.json", b'{"format":"recipe","version":1}', "not a Nimble Load session"),
            ("manifest.json", None, "manifest.json is missing"),
            ("session.json", None, "session.json is missing"),
            ("session.json", b"{", "session.json is not understood"),
            ("session.json", b'{"name":"x","rate":"fast"}', "session.json is not understood"),
            ("session.json", b'{"name":"x","rate":7}', "rate is 7; it can be from 1000"),
            ("session.json", b'{"name":"x","length":-5}', "length is -5.0; it can be from 0"),
            ("plan.json", b'{"decisions":[{"kind":"explode","strip":"a"}]}', "plan.json is not understood"),
            ("view.json", b'{"buffer":0}', "buffer of 0 samples"),
            ("view.json", b'{"machine":{"cores":-1}}', "machine: cores is -1"),
            ("view.json", b'{"buffer":"big"}', "view.json is not understood"),
        ],
    )
    def test_what_is_wrong_with_a_file_is_said(self, tmp_path, name, content, words):
        with pytest.raises(SessionFileError) as caught:
            session_file.read(self.rewritten(tmp_path, name, content))
        assert words in str(caught.value)
        assert "a.nimbleload" in str(caught.value)

    def test_the_published_schema_is_the_one_in_force(self):
        published = Path(__file__).parents[2] / "docs" / "session-schema.json"
        # Through JSON, so that tuples and lists count as the same.
        assert msgspec.json.decode(published.read_bytes()) == msgspec.json.decode(
            msgspec.json.encode(session_file.schema())
        )

    def test_a_cut_off_file_is_refused(self, tmp_path):
        path = tmp_path / "a.nimbleload"
        session_file.write(path, saved())
        path.write_bytes(path.read_bytes()[:-200])
        with pytest.raises(SessionFileError, match="damaged"):
            session_file.read(path)

    def test_only_our_two_endings_are_opened(self, tmp_path):
        with pytest.raises(ImportRefusedError, match=r"only \.nimbleload and \.dawproject"):
            open_session(tmp_path / "song.wav")


class TestLibrary:
    def test_what_is_stored_is_found_again_by_another(self, tmp_path):
        one = card(use("eq"), 1e-4, 2e-5, tail=0.5)
        store = Library(tmp_path / "l.sqlite", "here")
        store.store(one, one.cells)
        store.close()
        found = Library(tmp_path / "l.sqlite", "here").cards()
        assert found[one.key].tail == 0.5
        assert set(found[one.key].cells) == set(one.cells)

    def test_what_others_took_of_a_core_is_kept(self, tmp_path):
        one = card(use("eq"), 1e-4)
        cells = tuple(msgspec.structs.replace(cell, quiet=False, shared=1.6) for cell in one.cells)
        store = Library(tmp_path / "l.sqlite", "here")
        store.store(one, cells)
        found = store.cards()[one.key]
        assert set(found.cells) == set(cells) and found.cells[0].is_doubtful
        again = Library(tmp_path / "again.sqlite", "here")
        spreadsheet.import_(spreadsheet.export(store), again)
        assert {(cell.quiet, cell.shared) for cell in again.cards()[one.key].cells} == {(False, 1.6)}

    def test_a_cell_measured_again_takes_the_place_of_the_old_one(self, tmp_path, monkeypatch):
        """Also when the clock was put back meanwhile."""
        hours = iter([2e9] * len(card(use("eq"), 1e-4).cells) + [1e9])
        monkeypatch.setattr(time, "time", lambda: next(hours))
        store = Library(tmp_path / "l.sqlite", "here")
        old, new = card(use("eq"), 1e-4), card(use("eq"), 9e-4)
        store.store(old, old.cells)
        store.store(new, [new.cells[0]])
        found = store.cards()[old.key]
        assert found.cell(48000, 32, "sounding") == new.cells[0]
        assert found.cell(48000, 64, "sounding") == old.cell(48000, 64, "sounding")

    def test_what_was_measured_in_an_earlier_way_says_so(self, tmp_path):
        cards = {name: msgspec.structs.replace(card(use(name), 1e-3), made=made)
                 for name, made in (
            ("now", Made(version="2")), ("before", Made(method=1)), ("long ago", None),
            ("last", Made(method=METHOD - 1)),
        )}  # fmt: skip
        library = Library(tmp_path / "library.sqlite", "here")
        for each in cards.values():
            library.store(each, each.cells)
        found = {key.identifier: one for key, one in library.cards().items()}
        assert {name: one.cells[0].provenance for name, one in found.items()} == {
            "now": "measured", "before": "earlier", "long ago": "earlier", "last": "earlier",
        }
        assert found["now"].made == Made(version="2")
        # Of another computer it is said that they are from there.
        assert {c.provenance for one in Library(tmp_path / "library.sqlite", "there").cards(machine="here").values()
                for c in one.cells} == {"elsewhere"}  # fmt: skip

    def test_figures_of_different_ways_are_not_mixed(self, tmp_path):
        store = Library(tmp_path / "l.sqlite", "here")
        old = msgspec.structs.replace(card(use("eq"), 1e-4), made=Made(method=1))
        new = msgspec.structs.replace(old, made=Made(version="3"))
        store.store(old, old.cells)
        store.store(new, new.cells[:1])
        assert [c.provenance for c in store.cards()[old.key].cells] == ["measured"]
        store.store(msgspec.structs.replace(new, made=Made(real_time=True)), new.cells[1:3])
        assert len(store.cards()[old.key].cells) == 3

    def test_another_machines_figures_are_not_taken_for_this_ones(self, tmp_path):
        one = card(use("eq"), 1e-4)
        Library(tmp_path / "l.sqlite", "there").store(one, one.cells)
        assert Library(tmp_path / "l.sqlite", "here").cards() == {}

    def test_a_failure_is_kept_with_its_reason(self, tmp_path):
        store = Library(tmp_path / "l.sqlite", "here")
        store.store(msgspec.structs.replace(card(use("eq"), 0), cells=(), failure="crashed: SIGSEGV"))
        assert store.cards()[use("eq").card_key()].failure == "crashed: SIGSEGV"

    def test_a_process_that_is_killed_loses_nothing_that_was_stored(self, tmp_path):
        script = (
            "import os, sys\nfrom pathlib import Path\nsys.path.insert(0, '.')\n"
            "from tests.helpers.sessions import card, use\nfrom nimbleload.store.library import Library\n"
            f"store = Library(Path({str(tmp_path / 'l.sqlite')!r}), 'here')\none = card(use('eq'), 1e-4)\n"
            "for cell in one.cells[:5]:\n    store.store(one, [cell])\nos.kill(os.getpid(), 9)\n"
        )
        subprocess.run([sys.executable, "-c", script], check=False)
        assert len(Library(tmp_path / "l.sqlite", "here").cards()[use("eq").card_key()].cells) == 5

    def test_a_library_of_the_first_format_is_carried_over(self, tmp_path):
        path = tmp_path / "l.sqlite"
        one = msgspec.structs.replace(card(use("eq"), 1e-4), truth=Truth(latency=5, idle=True))
        store = Library(path, "here")
        store.store(one, one.cells)
        assert store.cards()[one.key].truth == one.truth
        store.close()
        with sqlite3.connect(path) as db:
            db.execute("ALTER TABLE card DROP COLUMN truth")
            db.execute("ALTER TABLE card DROP COLUMN details")
            db.execute("ALTER TABLE cell DROP COLUMN shared")
            db.execute("PRAGMA user_version=1")
        again = Library(path, "here")
        earlier = {msgspec.structs.replace(c, provenance="earlier") for c in one.cells}
        assert set(again.cards()[one.key].cells) == earlier
        assert (again.cards()[one.key].truth, again.cards()[one.key].upkeep) == (None, None)
        again.store(one)
        assert (again.cards()[one.key].truth, again.cards()[one.key].upkeep) == (one.truth, one.upkeep)

    def test_a_library_from_before_side_chains_is_carried_over(self, tmp_path):
        """Its table of cards allowed but one card for a plugin, whether it listened or not."""
        path = tmp_path / "l.sqlite"
        one, other = card(use("eq"), 1e-4), card(use("comp"), 2e-4)
        keyed = msgspec.structs.replace(other, key=msgspec.structs.replace(other.key, keyed=True))
        with closing(Library(path, "here")) as store:
            for each in (one, other):
                store.store(each, each.cells)
        with sqlite3.connect(path) as db:
            columns = [row[1] for row in db.execute("PRAGMA table_info(card)") if row[1] != "keyed"]
            db.execute(
                f"CREATE TABLE earlier ({', '.join(columns)}, PRIMARY KEY (id), "
                "UNIQUE (standard, identifier, version, setting, channels, voices, machine))"
            )
            db.execute(f"INSERT INTO earlier SELECT {', '.join(columns)} FROM card")
            db.execute("DROP TABLE card")
            db.execute("ALTER TABLE earlier RENAME TO card")
            db.execute("PRAGMA user_version=5")
        with closing(Library(path, "here")) as store:
            found = store.cards()
            for each in (one, other):
                assert len(found[each.key].cells) == len(each.cells)
            faster = tuple(msgspec.structs.replace(cell, mean=cell.mean / 2) for cell in other.cells)
            store.store(keyed, faster)
        with closing(Library(path, "here")) as store:
            found = store.cards()
            assert set(found) == {one.key, other.key, keyed.key}
            assert [c.mean for c in found[other.key].cells] == [2 * c.mean for c in found[keyed.key].cells]
            taken = Library(tmp_path / "other.sqlite", "there")
            assert spreadsheet.import_(spreadsheet.export(store), taken) > 0
            assert set(taken.cards(machine="here")) == set(found)

    def test_a_newer_library_is_not_touched(self, tmp_path):
        path = tmp_path / "l.sqlite"
        Library(path, "here").close()
        with sqlite3.connect(path) as db:
            db.execute("PRAGMA user_version=99")
        with pytest.raises(LibraryError, match="newer version"):
            Library(path, "here")

    def test_a_file_that_is_no_library_is_said(self, tmp_path):
        path = tmp_path / "l.sqlite"
        path.write_bytes(b"not a database at all, but long enough to be looked at" * 20)
        with pytest.raises(LibraryError, match="cannot be used"):
            Library(path, "here")

    def test_own_figures_come_before_those_that_came_with_the_session(self, tmp_path):
        of = session(track("a", "eq"), track("b", "comp"))
        mine, sample = card(use("eq"), 1e-4), card(use("eq"), 5e-4)
        other = card(use("comp"), 2e-4)
        store = Library(tmp_path / "l.sqlite", "here")
        store.store(mine, mine.cells)
        found = known_cards(of, store, {sample.key: sample, other.key: other})
        assert found[mine.key].cost(48000, 256, "sounding").seconds == 1e-4
        assert found[other.key] == other

    def test_a_failure_here_does_not_hide_figures_that_came_along(self, tmp_path):
        of = session(track("a", "eq"))
        sample = card(use("eq"), 5e-4)
        store = Library(tmp_path / "l.sqlite", "here")
        store.store(msgspec.structs.replace(sample, cells=(), failure="crashed: SIGSEGV"))
        found = known_cards(of, store, {sample.key: sample})[sample.key]
        assert found.cost(48000, 256, "sounding").seconds == 5e-4
        assert found.failure == "crashed: SIGSEGV"


class TestRecovery:
    def test_work_of_a_dead_process_is_found_and_of_a_living_one_not(self, tmp_path):
        Recovery(tmp_path).keep(saved(), tmp_path / "mine.nimbleload")
        assert left_behind(tmp_path) == []
        for note in tmp_path.glob("*.json"):
            found = msgspec.json.decode(note.read_bytes())
            note.write_bytes(msgspec.json.encode({**found, "started": "an earlier life of this number"}))
        left = left_behind(tmp_path)
        assert [item.original for item in left] == [tmp_path / "mine.nimbleload"]
        assert recover(left[0]) == saved()
        discard(left[0])
        assert left_behind(tmp_path) == []

    def test_saving_forgets_the_copy(self, tmp_path):
        kept = Recovery(tmp_path)
        kept.keep(saved(), None)
        kept.forget()
        assert list(tmp_path.iterdir()) == []

    def test_a_copy_without_its_note_is_still_found(self, tmp_path):
        Recovery(tmp_path).keep(saved(), None)
        for note in tmp_path.glob("*.json"):
            note.unlink()
        assert len(left_behind(tmp_path)) == 1

    def test_a_killed_process_leaves_its_work(self, tmp_path):
        script = (
            "import os, sys\nfrom pathlib import Path\nsys.path.insert(0, '.')\n"
            "from tests.store.test_files import saved\nfrom nimbleload.store.recovery import Recovery\n"
            f"Recovery(Path({str(tmp_path)!r})).keep(saved(), None)\nos.kill(os.getpid(), 9)\n"
        )
        subprocess.run([sys.executable, "-c", script], check=False)
        assert [recover(left) for left in left_behind(tmp_path)] == [saved()]


def test_a_pipe_is_written_into_and_nothing_takes_its_place(tmp_path):
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    found = []
    link = tmp_path / "link"
    link.symlink_to(pipe)
    for target in (pipe, link):
        reader = threading.Thread(target=lambda: found.append(pipe.read_bytes()))
        reader.start()
        atomic.write(target, b"all of it")
        reader.join(20)
    assert found == 2 * [b"all of it"] and pipe.is_fifo() and link.is_symlink()
    assert sorted(tmp_path.iterdir()) == [link, pipe]
    with pytest.raises(OSError):
        atomic.write(tmp_path, b"a folder is no file")
    assert tmp_path.is_dir()
