"""Recordings survive their file; damaged files are a sentence."""

from __future__ import annotations

import io
import zipfile

import msgspec
import numpy as np
import pytest

from nimbleload.core.watching.held_memory import Held
from nimbleload.core.watching.records import HOST, KERNEL, LIBRARY, WAITING, Alike, Clocks, Heard
from nimbleload.core.watching.server import Client, Server
from nimbleload.store import recording_file
from nimbleload.store.recording_file import RecordingFileError
from tests.helpers.recordings import blocks, recording, thread

OF = recording(
    thread(
        1, blocks(2_000_000, 50, [400_000]), "engine", gave_way=[3], looks=[(1_000_500, 1), (1_002_900, -1)],
        touches=[(1_000_400, 0, 1), (1_000_450, 32, -1)], waited=0.25,
        asleep=[(1_000_100, 1, 2), (1_000_900, 0, 5)],
    )._replace(ran=0.015),
    thread(2, [], "idle", real_time=False),
    files=["/usr/lib/lv2/a.lv2"],
)._replace(lost=7, price=1.5e-6)  # fmt: skip


@pytest.fixture
def path(tmp_path):
    found = tmp_path / "a.nimblewatch"
    recording_file.write(found, OF, {"/usr/lib/lv2/a.lv2": "A", "/elsewhere": "B"})
    return found


def changed(path, name, content):
    """The same file with one entry in another way."""
    out = io.BytesIO()
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(out, "w") as new:
        for each in old.namelist():
            if each != name:
                new.writestr(each, old.read(each))
        if content is not None:
            new.writestr(name, content)
    path.write_bytes(out.getvalue())
    return path


def array(values):
    out = io.BytesIO()
    np.save(out, np.array(values))
    return out.getvalue()


def test_everything_comes_back(path):
    found, names = recording_file.read(path)
    assert names == {"/usr/lib/lv2/a.lv2": "A"}
    assert found._replace(threads=(), clocks=()) == OF._replace(threads=(), clocks=())
    for mine, its in zip(OF.threads, found.threads, strict=True):
        assert mine[:4] == its[:4]
        assert (mine.waited, mine.ran) == (its.waited, its.ran)
        for name in recording_file.ALL:
            old, new = getattr(mine, name), getattr(its, name)
            assert np.array_equal(old, new) and new.dtype == np.int64


def test_which_cores_are_alike_comes_back_and_earlier_files_do_not_say(tmp_path, path):
    made = OF._replace(alike=Alike(((0, 4), (1, 5)), (2, 3)))
    recording_file.write(tmp_path / "b.nimblewatch", made, {})
    assert recording_file.read(tmp_path / "b.nimblewatch")[0].alike == made.alike
    with zipfile.ZipFile(path) as file:
        page = msgspec.json.decode(file.read("recording.json"))
    del page["same"], page["slow"]
    assert recording_file.read(changed(path, "recording.json", msgspec.json.encode(page)))[0].alike == Alike()


def test_where_it_was_looked_and_what_only_waits_comes_back_and_earlier_files_do_not_say(tmp_path):
    waits = thread(1, [(0, 100)], looks=[(10, HOST), (20, WAITING), (30, LIBRARY)], places=[7, 1 << 46, 9])
    recording_file.write(tmp_path / "b.nimblewatch", recording(waits), {})
    (its,) = recording_file.read(tmp_path / "b.nimblewatch")[0].threads
    assert its.look_owner.tolist() == [HOST, WAITING, LIBRARY] and its.look_place.tolist() == [7, 1 << 46, 9]
    for name, content in (("look_place", array([1, 2])), ("look_owner", array([HOST, KERNEL, LIBRARY]))):
        with pytest.raises(RecordingFileError, match="is damaged"):
            recording_file.read(changed(tmp_path / "b.nimblewatch", f"threads/0/{name}.npy", content))


def test_what_the_host_kept_in_memory_comes_back(tmp_path):
    made = OF._replace(memory=(Held(1, 5 << 30, 3, 2, 1), Held(2, 6 << 30, 3, 2, 1)))
    recording_file.write(tmp_path / "b.nimblewatch", made, {})
    assert recording_file.read(tmp_path / "b.nimblewatch")[0].memory == made.memory
    recording_file.write(tmp_path / "b.nimblewatch", made._replace(memory=made.memory[::-1]), {})
    with pytest.raises(RecordingFileError, match="kept in memory is not in order"):
        recording_file.read(tmp_path / "b.nimblewatch")
    recording_file.write(tmp_path / "b.nimblewatch", made._replace(memory=(Held(1, -1, 3, 2, 1),)), {})
    with pytest.raises(RecordingFileError, match="is damaged"):
        recording_file.read(tmp_path / "b.nimblewatch")


def test_at_which_clock_cores_ran_comes_back(tmp_path):
    clocks = Clocks.of((0, 5), (4, 0), [(1, (3, 0), (0, 7)), (2, (2, 1), (1, 7))])
    recording_file.write(tmp_path / "b.nimblewatch", OF._replace(clocks=clocks), {})
    found = recording_file.read(tmp_path / "b.nimblewatch")[0].clocks
    assert all((one == other).all() for one, other in zip(found, clocks, strict=True))
    for damage, words in (
        (clocks._replace(time=clocks.time[::-1]), "is not in order"),
        (clocks._replace(most=clocks.most[:1]), "does not fit together"),
        (clocks._replace(hot=clocks.hot[:, :1]), "does not fit together"),
        (clocks._replace(clock=-clocks.clock), "damaged"),
    ):
        recording_file.write(tmp_path / "b.nimblewatch", OF._replace(clocks=damage), {})
        with pytest.raises(RecordingFileError, match=words):
            recording_file.read(tmp_path / "b.nimblewatch")


@pytest.mark.parametrize("wrong", [
    {"clocks": [{"time": 1 << 63, "clock": [1], "hot": [1]}]},
    {"clocks": [{"time": 1, "clock": [1 << 63], "hot": [1]}]},
    {"fastest": [1 << 64]}, {"cores": [-1]}, {"begun": -(1 << 63)}, {"clocks": [{"time": 1, "clock": 3, "hot": [1]}]},
])  # fmt: skip
def test_what_no_array_holds_is_a_damaged_file(tmp_path, wrong):
    path = tmp_path / "b.nimblewatch"
    recording_file.write(path, OF._replace(clocks=Clocks.of((0,), (4,), [(1, (3,), (0,))])), {})
    page = msgspec.json.decode(zipfile.ZipFile(path).read("recording.json"))
    with pytest.raises(RecordingFileError, match="is damaged"):
        recording_file.read(changed(path, "recording.json", msgspec.json.encode({**page, **wrong})))


def test_earlier_files_do_not_tell_of_memory_that_was_not_there(path):
    for place in range(2):
        for name in recording_file.FAULTS:
            changed(path, f"threads/{place}/{name}.npy", None)
    first = recording_file.read(path)[0].threads[0]
    assert len(first.fault_time) == len(first.fault_pages) == len(first.fault_owner) == 0
    assert np.array_equal(first.switch_time, OF.threads[0].switch_time)


def test_what_a_sound_server_told_comes_back(tmp_path):
    clients = (Client("system", 7, 2, 2, ()), Client("mixer", 8, 2, 2, ("system",)))
    server = Server("JACK", "default", 7, 48000, 256, True, 256, -1, clients)
    told = Heard.of(server, [(1_200_000_000, 0.002)], [(1_500_000_000, 0.5), (1_000_000_000, 0.25)])
    recording_file.write(tmp_path / "b.nimblewatch", OF._replace(heard=told), {})
    found = recording_file.read(tmp_path / "b.nimblewatch")[0].heard
    assert found.server == server
    assert (found.xrun_time.tolist(), found.xrun_late.tolist()) == ([1_200_000_000], [0.002])
    assert (found.load_time.tolist(), found.load.tolist()) == ([1_000_000_000, 1_500_000_000], [0.25, 0.5])


@pytest.mark.parametrize("wrong", [{"rate": 0}, {"buffer": -1}, {"kind": "Hammer"}, {"loads": [[1, "x"]]}])
def test_a_server_that_cannot_be_is_a_damaged_file(tmp_path, wrong):
    path = tmp_path / "b.nimblewatch"
    server = Server("JACK", "default", 7, 48000, 256, True, 256, -1, ())
    recording_file.write(path, OF._replace(heard=Heard.of(server, [], [])), {})
    page = msgspec.json.decode(zipfile.ZipFile(path).read("recording.json"))
    with pytest.raises(RecordingFileError, match="is damaged"):
        recording_file.read(
            changed(path, "recording.json", msgspec.json.encode({**page, "server": {**page["server"], **wrong}}))
        )


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("recording.json", b"{}", "is damaged"),
        ("recording.json", b"\xff\xfe", "is damaged"),
        ("recording.json", None, "is damaged"),
        ("threads/0/look_time.npy", None, "is damaged"),
        ("threads/0/look_time.npy", array([1, 2, 3]), "do not fit together"),
        ("threads/0/look_time.npy", array([2, 1]), "not in order"),
        ("threads/0/look_owner.npy", array([1, 2]), "say what cannot be"),
        ("threads/0/look_owner.npy", array([1, -3]), "say what cannot be"),
        ("threads/0/look_owner.npy", array([[1], [1]]), "do not fit together"),
        ("threads/0/look_owner.npy", b"no array", "is damaged"),
        ("threads/0/fault_pages.npy", array([1]), "do not fit together"),
        ("threads/0/fault_pages.npy", array([0, -1]), "say what cannot be"),
        ("threads/0/fault_owner.npy", array([1, 2]), "say what cannot be"),
        ("threads/0/fault_time.npy", array([2, 1]), "not in order"),
        ("threads/0/fault_owner.npy", None, "is damaged"),
        ("threads/0/look_owner.npy", array(np.array([None, 1], object)), "is damaged"),
    ],
)
def test_a_damaged_file_is_a_sentence_with_its_name(path, name, content, words):
    with pytest.raises(RecordingFileError, match=words) as error:
        recording_file.read(changed(path, name, content))
    assert str(path) in str(error.value)


def test_other_files_and_newer_ones_are_told_apart(path, tmp_path):
    page = msgspec.json.decode(zipfile.ZipFile(path).read("recording.json"))
    with pytest.raises(RecordingFileError, match="newer version"):
        recording_file.read(changed(path, "recording.json", msgspec.json.encode({**page, "version": 2})))
    with pytest.raises(RecordingFileError, match="no recording"):
        recording_file.read(changed(path, "recording.json", msgspec.json.encode({**page, "format": "song"})))
    with pytest.raises(RecordingFileError, match="ends before it begins"):
        recording_file.read(changed(path, "recording.json", msgspec.json.encode({**page, "ended": 0, "begun": 9})))
    with pytest.raises(RecordingFileError, match="cannot be read"):
        recording_file.read(tmp_path / "nothing")
    (tmp_path / "text").write_text("x")
    with pytest.raises(RecordingFileError, match="is damaged"):
        recording_file.read(tmp_path / "text")


def test_an_entry_that_unfolds_without_end_is_refused(path, monkeypatch):
    monkeypatch.setattr(recording_file, "LARGEST_ENTRY", 1000)
    with pytest.raises(RecordingFileError, match="larger than"):
        recording_file.read(changed(path, "recording.json", b" " * 2000))


def test_a_folder_that_cannot_be_written_is_a_sentence(tmp_path):
    with pytest.raises(RecordingFileError, match="was not written"):
        recording_file.write(tmp_path / "none" / "a.nimblewatch", OF, {})
