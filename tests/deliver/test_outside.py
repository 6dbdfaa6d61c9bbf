"""A copy in another folder plays what lies outside of the exchange file all the same."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.deliver import exchange_out, pared, whole_mix
from nimbleload.deliver.outside import referred
from nimbleload.deliver.render import Rendered
from nimbleload.store import dawproject
from tests.deliver.test_sharing import EQ
from tests.deliver.test_whole_mix import written_with
from tests.helpers import exchange as x
from tests.helpers import stems
from tests.helpers.stems import audio, noise, wave


@pytest.mark.parametrize(
    ("path", "target", "wanted"),
    [
        ("stems/a.wav", "mixes/b.dawproject", "stems/a.wav"),
        ("stems/a.wav", "b.dawproject", "mixes/stems/a.wav"),
        ("stems/a.wav", "elsewhere/b.dawproject", "{}/mixes/stems/a.wav"),
        ("../audio/a.wav", "b.dawproject", "audio/a.wav"),
        ("../audio/a.wav", "mixes/new/b.dawproject", "{}/audio/a.wav"),
        ("/srv/a.wav", "elsewhere/b.dawproject", "/srv/a.wav"),
    ],
)
def test_what_it_is_called_from_there(tmp_path, path, target, wanted):
    found = referred(path, tmp_path / "mixes" / "a.dawproject", tmp_path / target)
    assert found == wanted.format(tmp_path)


@pytest.fixture
def source(tmp_path):
    """An exchange file in a folder, with audio beside it."""
    folder = tmp_path / "mixes"
    (folder / "stems").mkdir(parents=True)
    (folder / "stems" / "a.wav").write_bytes(wave(noise(4)))
    return stems.written(folder / "a.dawproject", x.clip(0, 4, audio("stems/a.wav", 4, external="true")), EQ)


# A part of a clip that is cut is written anew; all others are as they were.
@pytest.mark.parametrize("plan", [Decision("off", "u"), Decision("bounce", "t", start=1.0, end=2.0)])
def test_the_changed_session_plays_it(tmp_path, source, plan):
    written, session = written_with(source, Plan((plan,)))
    beside = written.read_bytes()
    folder = source.parent / "rendered"
    target = tmp_path / "elsewhere" / "b.dawproject"
    target.parent.mkdir()
    rendered = {} if plan.kind == "off" else rendered_in(folder)
    exchange_out.write(target, source, session, Plan((plan,)), rendered, folder)
    *_, last = whole_mix.prove_written(session, 512, None, target, tmp_path)
    assert last.trouble == "" and last.compared.verdict == "same"
    files = {part.file for part in dawproject.read(target).audio["t"].parts}
    assert files == {str(source.parent / "stems/a.wav")}
    # Beside the original nothing of it is another.
    assert b"elsewhere" not in beside
    assert {part.file for part in dawproject.read(written).audio["t"].parts} == {"stems/a.wav"}


def rendered_in(folder):
    (note,) = folder.glob("*.json")
    of = msgspec.json.decode(note.read_bytes(), type=Rendered)
    return {of.strip: of}


def test_a_pared_down_copy_plays_it_too(tmp_path, source):
    target = tmp_path / "b.dawproject"
    pared.write(target, source, dawproject.read(source).session, ["t"])
    (part,) = dawproject.read(target).audio["t"].parts
    assert part.file == "mixes/stems/a.wav" and (Path(target).parent / part.file).exists()
