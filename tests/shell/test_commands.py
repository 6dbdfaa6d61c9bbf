"""The shell: the same figures as the window, refusals in a sentence and an exit code."""

from __future__ import annotations

import importlib
import json
import os
import subprocess
import sys
from pathlib import Path

import click
import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from nimbleload.core.cards.card import METHOD, Made
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.decisions.rendering import audio_bytes
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.core.session.strips import Strip
from nimbleload.core.survey import survey
from nimbleload.core.told.warnings import STILL_LATE
from nimbleload.core.units import percent
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.recording import recording
from nimbleload.demo.session import HEARD_WITHIN
from nimbleload.demo.session import session as demo_session
from nimbleload.probe import session_run
from nimbleload.shell import cli
from nimbleload.shell.common import COMMANDS, library
from nimbleload.store import recording_file, session_file
from nimbleload.store.session_file import Saved
from tests.helpers import exchange as x
from tests.helpers.sessions import bus, card, cards_for, session, track


def run(*words: str):
    return CliRunner().invoke(cli, list(words))


def figures(*words: str):
    result = run(*words, "--json")
    assert result.exit_code == 0, result.output
    return json.loads(result.output)


def test_no_command_takes_what_is_no_number():
    """Every option that takes a number, of every command, tried with "nan" and "inf"."""
    context, tried = click.Context(cli), 0
    for name in cli.list_commands(context):
        for option in cli.get_command(context, name).params:
            if isinstance(option, click.Option) and isinstance(option.type, click.types.FloatParamType):
                for value in ("nan", "inf"):
                    said = run(name, option.opts[-1], value, *["1"] * 3)
                    assert said.exit_code == 2 and f"Invalid value for '{option.opts[-1]}'" in said.output, said.output
                    tried += 1
    assert tried > 10


def test_every_command_is_in_the_table_by_which_its_module_is_found():
    for module in COMMANDS:
        importlib.import_module(f"nimbleload.shell.{module}")
    assert sorted(cli.commands) == cli.list_commands(click.Context(cli))
    for module, names in COMMANDS.items():
        for name in names:
            told = cli.commands[name].callback or cli.commands[name]
            assert name == "library" or told.__module__ == f"nimbleload.shell.{module}", name
    found = run("no-such-command")
    assert found.exit_code == 2 and "No such command" in found.output


def test_asking_for_one_command_imports_no_other():
    words = "import sys; from nimbleload.shell import cli; cli.main(['machine', '--help'], standalone_mode=False); "
    words += "print(*sys.modules)"
    ran = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, check=True)
    loaded = {each for each in ran.stdout.split() if each.startswith("nimbleload.shell.")}
    assert loaded == {"nimbleload.shell.machine", "nimbleload.shell.common"}


@pytest.fixture
def saved(tmp_path):
    of = session(track("a", "eq", "comp"), track("b", "eq", clips=((2, 4),)))
    path = tmp_path / "a.nimbleload"
    cards = tuple(cards_for(of, {"eq": 1e-3, "comp": 2e-3}, silent=0.0).values())
    session_file.write(path, Saved(of, cards=cards, machine=Machine(1), buffer=256))
    return path


def test_load_says_the_sum_on_one_core(saved):
    found = figures("load", str(saved))
    assert found["load"] == pytest.approx(4e-3 / (256 / 48000))
    assert found["load"] == next(r["load"] for r in found["ladder"] if r["buffer"] == 256)
    assert 2 <= found["second"] <= 4
    assert found["tracks_by_cost"][0][0] == "a"


def test_a_position_a_buffer_and_cores_can_be_given(saved):
    found = figures("load", str(saved), "--at", "0:01", "--buffer", "512", "--cores", "2")
    assert (found["second"], found["buffer"], found["cores"]) == (1.0, 512, 2)
    assert found["load"] == pytest.approx(3e-3 / (256 / 48000))
    assert "no position" in run("load", str(saved), "--at", "soon").output
    for text in ("9:00", "-1"):
        refused = run("load", str(saved), "--at", text)
        assert refused.exit_code == 2 and f"{text} is not in the piece, which lasts 0:" in refused.output


def test_two_versions_are_told_against_each_other(saved, tmp_path):
    other = tmp_path / "b.nimbleload"
    assert run("edit", str(saved), "bypass a/comp", "section Storm 1", "--to", str(other)).exit_code == 0
    found = figures("load", str(other), "--against", str(saved))
    assert found["against"]["worst"] == figures("load", str(saved))["load"]
    worst = found["against"]["worst"]
    assert found["against"]["sections"] == [{"name": "Storm", "against": worst, "load": found["load"]}]
    said = run("load", str(other), "--against", str(saved)).output
    assert f"worst: held {percent(worst)}" in said and "Storm" in said


def test_the_words_hold_the_same_figures(saved):
    said, found = run("load", str(saved)).output, figures("load", str(saved))
    assert found["headline"] in said
    assert found["advice"] in said
    assert "> " in said


def test_the_demo_is_a_file_argument():
    found = figures("load", "demo")
    assert found["cores"] == 6
    assert found["figures_from"] == {"sample": pytest.approx(1.0)}
    assert "sample figures, not from this computer" in run("load", "demo").output


@pytest.mark.parametrize("command", ["load", "measure"])
def test_what_cannot_be_opened_ends_with_a_sentence(tmp_path, command):
    path = tmp_path / "bad.nimbleload"
    path.write_bytes(b"x")
    result = run(command, str(path))
    assert result.exit_code == 1
    assert "bad.nimbleload is damaged or no session file" in result.output
    assert "Traceback" not in result.output


def test_a_circle_ends_with_a_sentence(tmp_path):
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(session(bus("A", output="B"), bus("B", output="A"))))
    result = run("load", str(path))
    assert result.exit_code == 1
    assert "the routing runs in a circle: " in result.output


def test_import_writes_beside_and_reports(tmp_path):
    structure = x.track("t", "Voice", x.channel("c", devices="<Equalizer deviceName='Tone'/>")) + x.main_track()
    path = x.write(tmp_path / "song.dawproject", x.project(structure, x.lanes("t", x.clip(0, 8))))
    before = path.read_bytes()
    result = run("import", str(path))
    assert result.exit_code == 0
    assert "understood: 1 track," in result.output
    assert "left out:   “Tone”" in result.output
    assert path.read_bytes() == before
    assert session_file.read(tmp_path / "song.nimbleload").session.strips[0].name == "Voice"
    assert "should end in" in run("import", str(path), "--to", str(tmp_path / "x.zip")).output


def test_measure_stores_and_does_not_measure_twice(tmp_path):
    use = PluginUse("a/0", PluginRef("house", "house.sluice", "Sluice"))
    path = tmp_path / "a.nimbleload"
    of = session(Strip("a", "A", inserts=(use,), output="main"))
    session_file.write(path, Saved(of, machine=Machine(len(os.sched_getaffinity(0)))))
    first = figures("measure", str(path), "--quick", "--buffer", "64")
    assert (first["cards"], first["measured"], first["failed"]) == (1, 1, {})
    again = figures("measure", str(path), "--quick", "--buffer", "64")
    assert again["measured"] == 0
    assert figures("load", str(path), "--buffer", "64")["figures_from"] == {"measured": 1.0}
    # On another number of cores they are scaled.
    assert figures("load", str(path), "--buffer", "64", "--cores", "64")["figures_from"] == {"scaled": 1.0}


def test_what_others_disturbed_is_said_and_measured_again_with_doubtful(tmp_path):
    use = PluginUse("a/0", PluginRef("house", "house.sluice", "Sluice"))
    path, known = tmp_path / "a.nimbleload", card(use, 1e-5)
    of = session(replace(track("a"), inserts=(use,)))
    session_file.write(path, Saved(of, machine=Machine(len(os.sched_getaffinity(0)))))
    disturbed = replace(known.cell(of.rate, 64, "sounding"), mean=1.0, quiet=False, shared=2.0)
    library().store(session_run.with_cell(known, disturbed), session_run.with_cell(known, disturbed).cells)
    size = "64"
    assert figures("load", str(path), "--buffer", size)["doubt"] == pytest.approx(0.5)
    assert "\nUp to 50 % of this load: the work of others" in run("load", str(path), "--buffer", size).output
    said = run("measure", str(path), "--quick").output
    assert "0 to measure" in said and "Others shared the core during 1 figure" in said
    assert "goes with none of" in run("measure", str(path), "--doubtful", "--again").output
    assert "1 to measure" in run("measure", str(path), "--quick", "--doubtful").output
    (found,) = library().cards().values()
    assert found.cell(of.rate, 64, "sounding").mean < 1e-3
    # Beside it only what then stands out; nothing that was not sounding.
    assert {c for c in known.cells if c.condition == "silent"} < set(found.cells)


def test_a_session_for_a_part_of_this_computer(tmp_path, desktop):
    path = tmp_path / "a.nimbleload"
    of = session(*(track(f"t{k}", "p") for k in range(20)))
    cards = cards_for(of, {"p": 0.2 * 256 / 48000})
    up = Upkeep(0, 0, 0.0, 0.0, 0.0, paired=1.5, slower=2.0)
    session_file.write(path, Saved(of, machine=desktop, buffer=256, cards=tuple(
        replace(each, upkeep=up) for each in cards.values())))  # fmt: skip
    asked = {"": desktop, "fast": Machine(12, second=6), "each": Machine(14, slow=8), "fast-each": Machine(6),
             "3": Machine(3)}  # fmt: skip
    for part, machine in asked.items():
        found = figures("load", str(path), *(["--kept-on", part] if part else []))
        of_it = survey(of, Plan(), {each.key: each for each in session_file.read(path).cards}, machine, 256)
        assert found["load"] == pytest.approx(float(of_it.after.load.max())) and found["cores"] == machine.cores
    assert "256 samples, 14 of 20 cores" in run("load", str(path), "--kept-on", "each").output
    assert "256 samples, 6 of 20 cores" in run("plan", str(path), "--kept-on", "fast-each").output
    # A computer with so many cores is another one.
    assert "256 samples, 6 cores" in run("load", str(path), "--cores", "6").output
    said = run("load", str(path), "--kept-on", "slow").output
    assert "there are fast, each, fast-each, or a number" in said
    assert "about another computer" in run("load", str(path), "--kept-on", "3", "--cores", "4").output
    assert figures("howmany", str(path), "t1", "--kept-on", "fast")["fits"]


def test_measure_says_what_failed(tmp_path):
    path = tmp_path / "a.nimbleload"
    of = PluginUse("x", PluginRef("au", "y", "Z"))
    other = replace(of, id="other", setting=Setting((("drive", 3.0),)))
    session_file.write(path, Saved(session(Strip("a", "A", inserts=(of, other), output="main"))))
    result = run("measure", str(path))
    assert "Z (AU, as it starts): cannot be measured yet" in result.output
    # Two settings of one plugin are two.
    assert "0 measured, 2 failed" in result.output


def test_a_typed_reading_counts_and_is_told(tmp_path):
    of = session(track("a", "Meter Thing"))
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(of, machine=Machine(1)))
    assert "has no plugin named" in run("library", "reading", str(path), "Other", "5", "--buffer", "256").output
    assert "12 % of one core" in run("library", "reading", str(path), "meter thing", "12", "--buffer", "256").output
    found = figures("load", str(path), "--buffer", "256")
    assert found["load"] == pytest.approx(0.12)
    assert found["figures_from"] == {"typed": 1.0}
    assert "100 % of this load: typed in." in run("load", str(path), "--buffer", "256").output
    assert figures("load", str(path), "--buffer", "512")["figures_from"] == {"scaled": 1.0}


def test_the_library_goes_out_and_in(tmp_path):
    of = session(track("a", "eq"))
    path, table = tmp_path / "a.nimbleload", tmp_path / "costs.csv"
    session_file.write(path, Saved(of))
    run("library", "reading", str(path), "eq", "5", "--buffer", "256")
    assert run("library", "export", str(table)).exit_code == 0
    assert "typed in,eq,test,eq" in table.read_text()
    assert "1 rows taken in." in run("library", "import", str(table)).output
    table.write_text("nonsense")
    assert "no column" in run("library", "import", str(table)).output


def test_what_a_plugin_may_do_beyond_is_allowed_and_taken_back(rogue, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    assert "reads no hidden files" in run("allow").output
    said = run("allow", "test.good", "network").output
    assert said.startswith("good (clap) may from now on use the network.")
    run("allow", "test.good", "files")
    assert "clap:test.good: files, network" in run("allow").output
    assert "may no longer" in run("allow", "test.good", "files", "--no-longer").output
    assert "clap:test.good: network" in run("allow").output
    for words, reason in (("nowhere", "fits 0 installed plugins"), ("test", "say its identifier")):
        refused = run("allow", words, "files")
        assert (refused.exit_code, reason in refused.output) == (1, True)


def test_plugins_are_listed_and_found_by_words(rogue):
    found = figures("plugins", "test.good", "--standard", "clap")
    assert [p["identifier"] for p in found["plugins"]] == ["test.good"]
    assert "1 plugin." in run("plugins", "test.good").output


def test_figures_of_plugins_that_were_updated_since_are_told_beside_the_load(tmp_path):
    plugin, path = tmp_path / "synth.so", tmp_path / "a.nimbleload"
    plugin.write_bytes(b"one")
    uses = [PluginUse(f"a/{k}", PluginRef("ladspa", name, name)) for k, name in enumerate("xyz")]
    made = Made(METHOD, str(plugin), *session_run.fingerprint(str(plugin)))
    cards = [replace(card(use, 1e-5), made=made) for use in uses[:2]]
    # One of another file, that has not changed.
    other = tmp_path / "other.so"
    other.write_bytes(b"as it was")
    still = Made(METHOD, str(other), *session_run.fingerprint(str(other)))
    cards.append(replace(card(uses[2], 1e-5), made=still))
    of = session(Strip("a", "A", inserts=tuple(uses), output="main"))
    session_file.write(path, Saved(of, cards=tuple(cards), machine=Machine(2)))
    assert run("load", str(path)).stderr == ""
    plugin.write_bytes(b"another")
    said = run("load", str(path)).stderr
    assert said.startswith("2 plugin settings were measured before their plugins were updated; nimble-load measure ")


class TestPlan:
    def test_the_example_comes_down_to_its_limit_with_the_narrator_live(self, tmp_path):
        found = figures("plan", "demo", "--limit", "80")
        assert found["now"] > 1.0
        assert found["reached"]
        assert found["load"] <= 0.8 + 1e-9
        assert 2 <= len(found["steps"]) <= 12
        touched = {d["strip"] for step in found["steps"] for d in step["decisions"]}
        from nimbleload.demo.session import plan, session

        assert len(plan().pinned) == 1
        assert not touched & set(plan().pinned)
        assert all("Narrator" in session().strip(strip).name for strip in plan().pinned)
        kinds = [step["decisions"][0]["kind"] for step in found["steps"]]
        assert {"share", "lighten"} <= set(kinds)
        assert "freeze" not in kinds
        assert 0 <= found["gap"] <= 0.04
        loads = [step["load"] for step in found["steps"]]
        assert loads[-1] == found["load"]

    def test_of_what_is_not_measured_it_does_not_say_that_it_fits(self, tmp_path):
        path = tmp_path / "new.nimbleload"
        session_file.write(path, Saved(session(track("one", "a"))))
        said = run("plan", str(path)).output
        assert "what it takes is not known." in said and "whether it fits is not known." in said and "0.0 %" not in said

    def test_report_table_and_file_hold_the_plan_that_is_said(self, saved, tmp_path):
        html, table = tmp_path / "plan.html", tmp_path / "plan.csv"
        found = figures("plan", str(saved), "--limit", "40", "--html", str(html), "--csv", str(table), "--keep")
        kept = session_file.read(saved).plan
        assert [d.strip for d in kept.decisions] and len(kept.steps()) == len(found["steps"])
        assert len(table.read_text().splitlines()) == 1 + len(found["steps"])
        assert "Before the final render" in html.read_text()
        assert figures("load", str(saved))["load"] == pytest.approx(found["load"])

    def test_three_plans_and_a_disk_budget(self, saved):
        three = figures("plan", str(saved), "--compare")
        told = [{str(step["decisions"]) for step in each["steps"]} for each in three.values()]
        assert told[0] == told[1] != told[2]
        assert set(three) == {"least given up", "fewest steps", "most headroom"}
        assert three["most headroom"]["load"] <= 0.7 + 1e-9
        tight = figures("plan", "demo", "--disk", "300")
        of = demo_session()
        written = sum(
            audio_bytes(of.strip(decision["strip"]), of.rate)
            for step in tight["steps"]
            for decision in step["decisions"]
            if decision["kind"] == "freeze"
        )
        assert written <= 300e6
        kept = figures("load", "demo")["memory"]
        assert kept["room"] == 16 * 2**30 and not kept["at_least"]
        assert sum(kind["bytes"] for kind in kept["kinds"]) + kept["code"] == kept["bytes"]
        assert "Its plugins keep " in run("load", "demo").output
        free = figures("plan", "demo", "--limit", "130", "--memory", "0.17")
        assert free["reached"] and free["kept"] <= 0.17 * 2**30 < kept["bytes"]
        assert all(decision["unloaded"] for step in free["steps"] for decision in step["decisions"])
        assert sum(step["memory"] for step in free["steps"]) == kept["bytes"] - free["kept"]
        said = run("plan", str(saved), "--compare").output
        for option in (["--html", "a.html"], ["--csv", "a.csv"], ["--keep"]):
            assert "are about one" in run("plan", str(saved), "--compare", *option).output
        assert " min —" in said and said.count("The same plan as “least given up”.") == 1

    def test_findings_are_listed_with_what_they_save(self):
        found = figures("findings", "demo")["findings"]
        assert found[0]["name"] == "alike on several tracks"
        assert found[0]["saves"] > 0.05
        assert {d["kind"] for d in found[0]["decisions"]} == {"share"}
        said = run("findings", "demo").output
        assert f"{len(found)} findings." in said
        assert "a null test leaves −137 dB" in said

    def test_pins_and_kinds_are_kept_to_and_what_cannot_be_is_said(self, saved):
        said = run("plan", str(saved), "--limit", "20", "--pin", "A").output
        assert "No plan of these kinds can reach it" in said
        assert "a stays as it is" in said
        assert "no strip named 'Nobody'" in run("plan", str(saved), "--pin", "Nobody").output
        assert figures("plan", str(saved), "--limit", "50", "--kind", "suspend")["steps"] == []


class TestLatencyAndFit:
    def test_what_to_bypass_is_named_and_is_enough(self):
        now = figures("latency", "demo", "--own-way")["now"]
        assert now <= HEARD_WITHIN  # the narrator hears herself soon enough
        found = figures("latency", "demo", "--under", "12", "--own-way")
        assert found["possible"]
        assert found["then"] <= 0.012 < now
        assert "on Narrator" in " ".join(found["bypass"])
        assert "smaller buffer is needed" in run("latency", "demo", "--under", "2").output
        # Not every host takes the latency of what it bypasses away.
        assert STILL_LATE in run("latency", "demo", "--under", "12", "--own-way").output
        assert STILL_LATE not in run("latency", "demo", "--under", "1000").output

    def test_readings_made_with_known_overheads_give_them_back(self, saved):
        plain = {r["buffer"]: r["load"] for r in figures("load", str(saved))["ladder"]}
        fixed = 150e-6
        given = [f"{b}:{100 * (1.2 * plain[b] + fixed * 48000 / b)}" for b in (64, 512, 2048)]
        found = figures("fit", str(saved), *(word for reading in given for word in ("--reading", reading)))
        assert found["factor"] == pytest.approx(1.2, rel=1e-6)
        assert found["fixed"] == pytest.approx(fixed, rel=1e-6)
        run("fit", str(saved), *(word for reading in given for word in ("--reading", reading)), "--keep")
        after = {r["buffer"]: r["load"] for r in figures("load", str(saved))["ladder"]}
        assert after[512] == pytest.approx(1.2 * plain[512] + fixed * 48000 / 512, rel=1e-3)
        for text in ("soon", "256:nan", "-5:20", "0:20", "256:-1", "256"):
            assert "write it like 256:74" in run("fit", str(saved), "--reading", text).output
        assert "two readings" in run("fit", str(saved), "--reading", "64:50").output.lower()


    def test_recordings_of_the_host_tell_it_too(self, saved, tmp_path):
        kept = tmp_path / "Host.nimblewatch"
        recording_file.write(kept, recording(sample_cards()), {})
        found = figures("fit", "demo", "--recording", str(kept), "--at", "3:56")
        assert found["buffers"] == [256] and found["own"][0] > 0 and found["threads"] >= 1
        assert "The host itself takes" in run("fit", "demo", "--recording", str(kept)).output
        run("fit", str(saved), "--recording", str(kept), "--keep")
        assert session_file.read(saved).session.host.strip_overhead > 0
        assert "Give readings of its meter" in run("fit", "demo").output
        kept.write_text("no")
        assert f"{kept} is damaged" in run("fit", "demo", "--recording", str(kept)).output


class TestCards:
    def test_a_card_is_shown_by_words_and_doubt_is_listed(self):
        found = figures("card", "demo", "tar oversampling 8")
        assert found["card"]["upkeep"] is not None
        said = run("card", "demo", "mist").output
        assert "fits 5 plugin settings" in said or "say more of one" in said
        assert "no plugin whose name and setting hold 'nothing'" in run("card", "demo", "nothing").output.replace(
            "\n", " "
        )

    def test_a_card_is_shown_of_a_place_in_a_chain_and_says_what_sets_it_apart(self, tmp_path):
        path = str(tmp_path / "a.nimbleload")
        run("new", path)
        edits = "add track A 2", "width 'A 1' 1", "insert 'A 1' tar", "insert 'A 2' tar"
        assert run("edit", path, *edits).exit_code == 0
        assert run("card", path, "A 1/1").output.splitlines()[0] == "Tar   built in, as it starts; mono"
        assert run("card", path, "A 2/tar").output.splitlines()[0] == "Tar   built in, as it starts"
        assert "\n  Tar: built in, as it starts; mono\n" in run("card", path, "tar").output
        assert run("card", path, "tar mono").output.startswith("Tar   built in, as it starts; mono\n")
        assert "A 1 has no plugin “2”; it has 1 Tar" in run("card", path, "A 1/2").output

    def test_two_cards_side_by_side(self):
        said = run("compare", "demo", "tar oversampling 8", "shoreline bands 14").output
        assert said.count("µs") + said.count("ms") >= 16
        assert "second against first" in said

    def test_a_stand_in_is_marked(self, saved):
        said = run("library", "stand-in", str(saved), "eq", "comp").output
        assert "comp stands in for eq" in said

    def test_all_stand_ins_are_suggested_and_taken_at_once(self, tmp_path):
        lost, known = (
            PluginUse(each, PluginRef(each, f"{each}.sea", "Sea EQ"), family="equaliser") for each in ("clap", "lv2")
        )
        path = tmp_path / "lost.nimbleload"
        strips = [replace(track("t"), inserts=(lost, known))]
        session_file.write(path, Saved(session(*strips), cards=(card(known, 1e-4),), machine=Machine(2)))
        said = run("library", "stand-ins", str(path)).output
        assert "  Sea EQ (CLAP): Sea EQ (LV2)\n1 setting without figures could have a stand-in." in said
        said = run("library", "stand-ins", str(path), "--take").output
        assert "1 setting has a stand-in now, marked as such." in said
        assert run("library", "stand-ins", str(path)).output.startswith("0 settings")


def test_of_a_session_for_more_cores_a_share_is_rehearsed_and_told_apart(tmp_path):
    tar = PluginUse("u", PluginRef("house", "house.tar", "Tar"))
    strips = [replace(track(f"t{k}"), inserts=(replace(tar, id=f"t{k}/0"),)) for k in range(6)]
    path = str(tmp_path / "large.nimbleload")
    # Three quarters of a core each, as far as is known.
    session_file.write(Path(path), Saved(session(*strips), Plan(), (card(tar, 4e-3),), Machine(6), 1024))
    said = run("rehearse", path, "--seconds", "0.5", "--cores", "1")
    assert said.exit_code == 0, said.output
    assert "That was the share of 1 of 6 cores." in said.output
    figures = json.loads(run("rehearse", path, "--seconds", "0.5", "--cores", "1", "--json").stdout)
    assert figures["part"] == {"cores": 1, "of": 6, "strips": figures["part"]["strips"]} and len(figures["strips"]) == 2
    session_file.write(Path(path), Saved(session(*strips), Plan(), (card(tar, 4e-3),), Machine(1), 1024))
    figures = json.loads(run("rehearse", path, "--seconds", "0.5", "--cores", "1", "--json").stdout)
    assert figures["part"] is None and len(figures["strips"]) == 7


def test_where_the_library_cannot_be_opened_the_sessions_own_figures_count(tmp_path, monkeypatch):
    expected = run("load", "demo", "--json").stdout
    (tmp_path / "file").write_text("no folder")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "file"))
    said = run("load", "demo", "--json")
    assert said.exit_code == 0 and said.stdout == expected
    assert "library.sqlite cannot be used" in said.stderr and said.stderr.endswith("Going on without it.\n")


@pytest.mark.parametrize("words", [("new",), ("add", "demo"), ("add",)])
def test_what_the_system_refuses_is_a_sentence(words):
    name = f"{'x' * 300}.nimbleload"
    said = run(*words, name, *(["demo"] if words == ("add",) else []))
    assert said.exit_code == 1 and said.stderr == f"Error: File name too long: {name}.\n"
