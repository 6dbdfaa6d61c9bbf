"""What lies in a folder from earlier, and whether it would come out the same now."""

from __future__ import annotations

import os
from datetime import datetime, timedelta
from pathlib import Path

import msgspec
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import Setting
from nimbleload.deliver import render
from nimbleload.deliver.carrying import prepare
from nimbleload.deliver.there import NOTHING, files_of, there
from nimbleload.store import dawproject, session_file
from nimbleload.store.session_file import Saved
from tests.deliver.test_render import carried, job_of
from tests.helpers import exchange as x
from tests.helpers import stems
from tests.helpers.stems import RATE, SHORELINE, audio, noise, wave


def lies(path, folder, buffer=512, kind="wav"):
    return there([job_of(path, buffer=buffer)], path, folder, kind)


def test_nothing_lies_where_nothing_was_rendered(tmp_path):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
    assert lies(path, tmp_path / "out") == NOTHING


def test_what_would_come_out_the_same_is_found_and_no_audio_is_read(tmp_path, monkeypatch):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
    made = carried(path, tmp_path / "out").rendered
    monkeypatch.setattr(soundfile, "SoundFile", lambda *_: pytest.fail("audio was read"))
    assert lies(path, tmp_path / "out") == ({"t": made}, {})
    # It was proven to be the same in blocks of another size.
    assert lies(path, tmp_path / "out", buffer=1024) == ({"t": made}, {})


@pytest.mark.parametrize("change", ["audio", "place", "missing"])
def test_what_was_made_of_something_else_is_told_with_its_time(tmp_path, change):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
    begun = datetime.now() - timedelta(seconds=1)
    carried(path, tmp_path / "out")
    if change in ("audio", "missing"):
        # As long as before: only its checksum tells.
        name = "audio/a.wav" if change == "audio" else "audio/b.wav"
        stems.written(path, x.clip(0, 2, audio()), files={name: wave(noise(seed=9))})
    elif change == "place":
        stems.written(path, x.clip(0.5, 2, audio()))
    found = lies(path, tmp_path / "out")
    assert not found.rendered and begun < found.older["t"] < begun + timedelta(minutes=5)


@pytest.mark.parametrize("change", ["gone", "cut", "note", "unproven", "no exchange file"])
def test_what_is_not_whole_is_not_there(tmp_path, change):
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()))
    made = tmp_path / "out" / carried(path, tmp_path / "out", prove=change != "unproven").rendered.file
    job = job_of(path)
    if change == "gone":
        made.unlink()
    elif change == "cut":
        made.write_bytes(made.read_bytes()[:-1000])
    elif change == "note":
        made.with_name(made.name + ".json").write_text("no")
    elif change == "no exchange file":
        path.unlink()
    # What was not proven is rendered again in any case.
    assert there([job], path, tmp_path / "out", "wav") == NOTHING


def test_a_file_outside_that_was_only_touched_is_looked_into_once(tmp_path):
    (tmp_path / "takes").mkdir()
    take = tmp_path / "takes" / "a.wav"
    soundfile.write(take, noise(), RATE, subtype="FLOAT")
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio("takes/a.wav", external="true")))
    carried(path, tmp_path / "out")
    assert "t" in lies(path, tmp_path / "out").rendered
    os.utime(take, (1, 1))
    assert "t" in lies(path, tmp_path / "out").older
    assert carried(path, tmp_path / "out").doing == "there already"
    assert "t" in lies(path, tmp_path / "out").rendered
    soundfile.write(take, noise(seed=9), RATE, subtype="FLOAT")
    assert carried(path, tmp_path / "out").doing == "rendered"


def test_what_was_too_loud_for_its_kind_is_found_as_that_which_holds_it(tmp_path):
    loud = {"audio/a.wav": wave(noise(level=1.0))}
    path = stems.written(tmp_path / "a.dawproject", x.clip(0, 2, audio()), files=loud)
    made = carried(path, tmp_path / "out", kind="flac").rendered
    assert made.file.endswith(".wav") and lies(path, tmp_path / "out", kind="flac").rendered == {"t": made}
    assert not lies(path, tmp_path / "out", kind="wav").rendered


class TestFilesToPlay:
    """What a rehearsal plays of a plan that has been carried out."""

    @pytest.fixture
    def mix(self, tmp_path):
        """A session with its plan, in which one track can be frozen, and one has no audio."""
        path = stems.written(tmp_path / "mix.dawproject", x.clip(0.5, 1.5, audio()), SHORELINE)
        return dawproject.read(path).session, Plan((Decision("freeze", "t"), Decision("freeze", "u")))

    def test_what_was_rendered_and_would_be_the_same_now_is_played(self, mix, tmp_path):
        session, plan = mix
        assert files_of(session, plan, 512) == {}
        made = carried(tmp_path / "mix.dawproject", tmp_path / "mix carried out").rendered
        file = str(tmp_path / "mix carried out" / made.file)
        assert files_of(session, plan, 512) == {"t": (file, made.start)} and Path(file).exists()
        assert files_of(session, Plan(), 512) == {}
        stems.written(tmp_path / "mix.dawproject", x.clip(0.7, 1.5, audio()), SHORELINE)
        assert files_of(session, plan, 512) == {}

    def test_what_was_rendered_of_whole_numbers_is_known_of_the_session_that_was_saved(self, mix, tmp_path):
        """A setting of bands 14 is one of 14.0, as which it is read again."""
        session, plan = mix
        voice = session.strip("t")
        whole = msgspec.structs.replace(voice.inserts[0], setting=Setting((("bands", 14), ("gain", 2))))
        changed = msgspec.structs.replace(voice, inserts=(whole,))
        strips = tuple(changed if each.id == "t" else each for each in session.strips)
        session = msgspec.structs.replace(session, strips=strips)
        prepared = prepare(session, plan, 512)
        *_, last = render.carry_out(prepared.jobs[0], prepared.source, tmp_path / "mix carried out")
        session_file.write(tmp_path / "mix.nimbleload", Saved(session, plan))
        again = session_file.read(tmp_path / "mix.nimbleload")
        assert Path(files_of(again.session, again.plan, 512)["t"][0]).name == last.rendered.file

    def test_other_kinds_and_other_folders(self, mix, tmp_path):
        session, plan = mix
        made = carried(tmp_path / "mix.dawproject", tmp_path / "there", kind="flac").rendered
        assert files_of(session, plan, 512) == {}
        assert files_of(session, plan, 512, folder=tmp_path / "there")["t"][0].endswith(made.file)

    def test_a_bounced_stretch_is_a_track_of_its_own_and_no_file_of_the_whole(self, mix, tmp_path):
        session, _ = mix
        plan = Plan((Decision("bounce", "t", start=0.5, end=1.0),))
        carried(tmp_path / "mix.dawproject", tmp_path / "mix carried out", plan)
        assert files_of(session, plan, 512) == {}

    def test_where_nothing_can_be_found_out_nothing_is_played(self, mix, tmp_path):
        session, plan = mix
        carried(tmp_path / "mix.dawproject", tmp_path / "mix carried out")
        (tmp_path / "mix.dawproject").unlink()
        assert files_of(session, plan, 512) == {}
