"""Recordings survive their file; damaged files are a sentence."""

from __future__ import annotations

import io
import zipfile

import msgspec
import numpy as np
import pytest

from nimbleload.core.watching.asleep import Met
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.held_memory import Held
from nimbleload.core.watching.history import Mark, past_of
from nimbleload.core.watching.late import Reasons
from nimbleload.core.watching.records import HOST, KERNEL, LIBRARY, WAITING, Alike, Clocks, Heard, Others
from nimbleload.core.watching.server import Client, Server
from nimbleload.store import recording_file
from nimbleload.store.recording_file import RecordingFileError
from tests.helpers.rare import BEGUN, PERIOD, rare
from tests.helpers.recordings import blocks, recording, thread

OF = recording(
    thread(
        1, blocks(2_000_000, 50, [400_000]), "engine", gave_way=[3], looks=[(1_000_500, 1), (1_002_900, -1)],
        touches=[(1_000_400, 0, 1), (1_000_450, 32, -1)], waited=0.25,
        asleep=[(1_000_100, 1, 2), (1_000_900, 0, 5)],
    )._replace(ran=0.015, ready_time=np.array([5, 900]), ready_sum=np.array([0, 70]), ready_ran=np.array([9, 80])),
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


LONG = (1_000_000, 6_000_000)


def with_past(folder):
    """A file with a past in which there is some of everything, and what is in it."""
    beside = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + 2_000_000) for k in (300, 900)]
    looks = [Others(BEGUN + k * 10**9, {"indexer": 0.5}, {"wlan": 900.0}, {"bar": 0.1 * k}) for k in range(9)]
    made = rare(2000, (300, 900, 1500), LONG, beside, looks)
    past = past_of(see(made), 1_700_000_000.0)
    reason = past.dropouts[0].why
    first = past.dropouts[0]._replace(
        xruns=1, absent=1, taken=0.25,
        why=Reasons(reason.late._replace(reader=1, meanwhile=1, clocks=(1e9, 2e9), outside=3), reason.took,
                    Met({(1, 2): 3, (2, 0): 1}, 5)),
    )  # fmt: skip
    second = past.dropouts[1]._replace(why=Reasons(past.dropouts[1].why.late, None, Met({}, 0)), lanes=())
    past = past._replace(
        dropouts=(first, second, past.dropouts[2]._replace(why=None)), marks=(Mark(5, 6.5, True, 1.2),), forgotten=7,
        unseen=2.5, no_cycle=1.5,
    )  # fmt: skip
    path = folder / "past.nimblewatch"
    recording_file.write(path, made, {}, past)
    return path, made, past


def same(mine, its):
    """Whether two values are equal, with all that is in them."""
    if isinstance(mine, np.ndarray):
        return mine.dtype == its.dtype and np.array_equal(mine, its)
    if isinstance(mine, tuple):
        return type(mine) is type(its) and len(mine) == len(its) and all(map(same, mine, its))
    return bool(mine == its)


def test_what_was_seen_before_comes_back_with_all_of_its_dropouts(tmp_path):
    path, made, past = with_past(tmp_path)
    found, _, its = recording_file.read_all(path)
    assert same(past._replace(why=None), its._replace(why=None))
    assert its.why.late[:8] == past.dropouts[0].why.and_of(past.dropouts[1].why).late[:8]
    assert found.others == made.others
    # Files of before know nothing of it.
    recording_file.write(path, made, {})
    assert recording_file.read_all(path)[2] is None


@pytest.mark.parametrize(
    ("where", "value", "why"),
    [
        (("begun",), 10**12, "is not in order"),
        (("dropouts", 0, "ended"), 0, "is not in order"),
        (("dropouts", 1, "time"), 0, "is not in order"),
        (("seconds", 3, "time"), 0, "is not in order"),
        (("dropouts", 0, "absent"), 2, "names a thread that is not there"),
        (("dropouts", 0, "absent"), -2, "names a thread that is not there"),
        (("dropouts", 0, "lanes", 0, "thread"), 2, "names a thread that is not there"),
        (("dropouts", 0, "why", "meanwhile"), 5, "names a thread that is not there"),
        (("dropouts", 0, "why", "reader"), 3, "names a plugin that is not there"),
        (("dropouts", 0, "why", "took", "owner", 0), -5, "names a plugin that is not there"),
        (("dropouts", 0, "why", "took", "now"), [1.0], "does not fit together"),
        (("dropouts", 0, "why", "took", "owner", 0), 2, "does not fit together"),
        (("dropouts", 0, "why", "asleep", 0), [1, 9, 3], "says what cannot be"),
        (("dropouts", 0, "why", "asleep", 0), [4, 1, 3], "names a plugin that is not there"),
        (("dropouts", 0, "lanes", 0, "end"), [], "do not fit together"),
        (("dropouts", 0, "lanes", 0, "look_owner"), [1], "do not fit together"),
        (("dropouts", 0, "still"), [True], "of how many larger buffers nobody knows"),
        (("dropouts", 0, "beside", 0, "usually"), 1.5, "Expected"),
        (("dropouts", 0, "day"), 1e11, "Expected"),
        (("played",), 1e300, "Expected"),
        (("dropouts", 0, "period"), 0.0, "Expected"),
    ],
)
def test_a_damaged_past_is_a_sentence(tmp_path, where, value, why):
    path, _, _ = with_past(tmp_path)
    with zipfile.ZipFile(path) as file:
        page = msgspec.json.decode(file.read("past.json"))
    inside = page
    for step in where[:-1]:
        inside = inside[step]
    inside[where[-1]] = value
    with pytest.raises(RecordingFileError, match=why):
        recording_file.read_all(changed(path, "past.json", msgspec.json.encode(page)))


def test_programs_out_of_order_are_a_sentence(tmp_path):
    made = OF._replace(others=(Others(5, {}, {}), Others(4, {"a": 0.5}, {})))
    recording_file.write(tmp_path / "b.nimblewatch", made, {})
    with pytest.raises(RecordingFileError, match="what other programs did is not in order"):
        recording_file.read(tmp_path / "b.nimblewatch")
