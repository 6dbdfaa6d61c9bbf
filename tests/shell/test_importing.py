"""A newer export of the mix is taken in from the shell: the plan goes on for what is the same, and nothing is done by
what an older export said."""

from __future__ import annotations

import json

import msgspec
import pytest
from click.testing import CliRunner

from nimbleload.core.decisions.decision import Decision, KeptPlan, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.told.restore_list import restore_list
from nimbleload.core.units import percent
from nimbleload.deliver import carrying, pared
from nimbleload.deliver.exchange_out import WriteError
from nimbleload.shell import cli
from nimbleload.store import session_file
from nimbleload.store.written_anew import is_written_anew
from tests.helpers import exports
from tests.helpers.sessions import card


def run(*arguments):
    return CliRunner().invoke(cli, [str(each) for each in arguments])


@pytest.fixture
def mix(tmp_path):
    """A session with a plan, and the exchange file that it came from."""
    source, path = exports.export(tmp_path / "mix.dawproject", exports.FIRST), tmp_path / "mix.nimbleload"
    assert run("import", source).exit_code == 0
    saved = session_file.read(path)
    bass, harp, voice = saved.session.strips[:3]
    plan = Plan(
        (Decision("freeze", harp.id), Decision("off", bass.id, bass.inserts[1].id), Decision("freeze", voice.id)),
        done=(bass.id,),
    )
    session_file.write(path, msgspec.structs.replace(saved, plan=plan, buffer=512))
    return path, source


def by_name(saved):
    names = {strip.id: strip.name for strip in saved.session.strips}
    return [(each.kind, names[each.strip]) for each in saved.plan.decisions], [names[each] for each in saved.plan.done]


def test_the_plan_goes_on_in_a_newer_export_whatever_its_numbers(mix):
    path, source = mix
    exports.export(source, exports.SECOND)
    before = path.read_bytes()
    shown = run("renew", path, "--show")
    assert path.read_bytes() == before
    assert shown.output.splitlines()[-1] == "Nothing was written."
    said = run("renew", path)
    assert said.exit_code == 0
    for sentence in (
        "2 tracks go on.", "New: Drums.", "Gone: Harp.", "Called otherwise: Voice is Lead voice now.",
        "Of 3 decisions 2 go on; gone with what they spoke of: Freeze Harp.", f"Written to {path}",
    ):  # fmt: skip
        assert sentence in said.output.splitlines()
    saved = session_file.read(path)
    assert by_name(saved) == ([("off", "Bass"), ("freeze", "Lead voice")], ["Bass"])
    bass = next(strip for strip in saved.session.strips if strip.name == "Bass")
    assert saved.plan.decisions[0].use == bass.inserts[1].id
    assert saved.buffer == 512
    # Once more, of the same file: nothing is new.
    again = json.loads(run("renew", path, "--json").output)
    assert again["said"] == ["3 tracks go on.", "The plan goes on, with 2 decisions."]


def test_what_it_does_to_the_load_is_what_is_said_of_either_alone(mix):
    path, source = mix
    saved = session_file.read(path)
    cards = {use.card_key(): card(use, 0.3 * 512 / 48000) for use in saved.session.uses_by_id().values()}
    cards = tuple(cards.values())
    known = msgspec.structs.replace(saved, cards=cards, machine=Machine(1))
    session_file.write(path, known)

    def worst():
        return json.loads(run("load", path, "--json").output)["load"]

    def said():
        return run("renew", path, "--show").output.splitlines()[-2]

    before = worst()
    session_file.write(path, saved)
    assert said() == "What it takes is not known: nothing is measured yet."
    assert json.loads(run("renew", path, "--show", "--json").output)["worst"] == {"before": None, "now": None}
    session_file.write(path, known)
    exports.export(source, exports.SECOND)
    shown = said()
    loads = json.loads(run("renew", path, "--json").output)["worst"]
    assert (loads["before"], loads["now"]) == (before, worst()) and before != loads["now"]
    assert shown.startswith(f"The worst moment now takes {percent(loads['now'])} at ")
    assert f" with the plan; it was {percent(before)} at " in shown


def test_it_may_lie_elsewhere_and_be_written_elsewhere(mix, tmp_path):
    path, _ = mix
    newer = exports.export(tmp_path / "mix 2.dawproject", exports.SECOND, bass=("Squeeze",))
    before = path.read_bytes()
    said = run("renew", path, newer, "--to", tmp_path / "mix 2.nimbleload")
    assert "Plugins: 1 new, 2 gone." in said.output.splitlines()
    assert path.read_bytes() == before
    saved = session_file.read(tmp_path / "mix 2.nimbleload")
    assert saved.session.source == str(newer)
    assert by_name(saved)[0] == [("off", "Bass"), ("freeze", "Lead voice")]


def test_what_is_no_exchange_file_is_refused_and_the_session_stays(mix, tmp_path):
    path, source = mix
    before = path.read_bytes()
    source.write_bytes(b"half written")
    said = run("renew", path)
    assert said.exit_code == 1
    assert "cannot be opened" in said.output
    assert "should end in" in run("renew", path, "--to", tmp_path / "x.zip").output
    made_here = tmp_path / "own.nimbleload"
    assert run("new", made_here).exit_code == 0
    assert "came from no exchange file: say which one to take in." in run("renew", made_here).output
    assert f"{made_here} is no exchange file (.dawproject)" in run("renew", path, made_here).output
    assert path.read_bytes() == before


def test_nothing_is_carried_out_by_what_an_older_export_said(mix, tmp_path):
    """The harp's number is the bass's now."""
    path, source = mix
    saved = session_file.read(path)
    assert not is_written_anew(saved.session)
    carrying.prepare(saved.session, saved.plan, 512)
    exports.export(source, exports.SECOND)
    with pytest.raises(carrying.NothingToDoError, match="was written anew since"):
        carrying.prepare(saved.session, saved.plan, 512)
    with pytest.raises(WriteError, match="was written anew since"):
        pared.copy(tmp_path / "less.dawproject", saved, [saved.session.strips[0].id])
    anew = "mix.dawproject was written anew since this session was taken from it. nimble-load renew takes it in."
    assert run("load", path).stderr.strip() == anew
    assert run("renew", path, "--show").stderr == "" and run("load", source).stderr == ""
    said = run("carry-out", path)
    assert said.exit_code == 1
    assert "Take the newer export in first" in said.output
    # A file that is only copied or touched holds the same project.
    exports.export(source, exports.FIRST)
    carrying.prepare(saved.session, saved.plan, 512)
    # A session of a version before, which kept no stamp.
    carrying.prepare(msgspec.structs.replace(saved.session, source_stamp=""), saved.plan, 512)


def test_what_was_carried_out_is_no_longer_planned_but_stays_to_be_put_back(mix):
    """One goes on mixing in the changed session, and takes that in again."""
    path, _ = mix
    saved = session_file.read(path)
    off = Plan((saved.plan.decisions[1],))
    put_by = KeptPlan("another", Plan(), 64)
    session_file.write(path, msgspec.structs.replace(saved, plan=off, kept=(put_by,)))
    line = restore_list(saved.session, off)
    written = json.loads(run("carry-out", path, "--json").output)["session"]["path"]
    said = run("renew", path, written)
    told = "Carried out in it already: Switch off Squeeze on Bass. What is to be put back of it stays on the list."
    assert told in said.output.splitlines()
    saved = session_file.read(path)
    assert (saved.plan.decisions, restore_list(saved.session, saved.plan)) == ((), line)
    assert restore_list(saved.session, saved.kept[0].plan) == line, "whichever plan is in force"
    # What is ticked off has been put back.
    session_file.write(path, msgspec.structs.replace(saved, plan=Plan(put_back=tuple(line), carried_out=tuple(line))))
    assert run("renew", path, written).exit_code == 0
    assert session_file.read(path).plan.carried_out == ()
