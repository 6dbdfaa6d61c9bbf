"""What was seen of a host, in sentences."""

from __future__ import annotations

import pytest

from nimbleload.core.told import watching as told
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.shares import Change, Share, parts
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 5_333_333


def seen(busy=(500_000,), **options):
    return see(recording(thread(2, blocks(PERIOD, 400, list(busy)), **options), files=["/usr/lib/lv2/warm one.lv2"]))


@pytest.mark.parametrize(
    ("size", "rate"), [(64, 48000), (256, 48000), (512, 44100), (1024, 96000), (480, 48000), (128, 192000)]
)
def test_the_buffer_is_told_from_the_length_of_a_block(size, rate):
    found = told.buffer_of(size / rate * 1.0003)
    assert found is not None
    assert found[0] / found[1] == pytest.approx(size / rate, rel=1e-6)


def test_a_length_of_no_usual_buffer_is_told_as_it_is():
    assert told.buffer_of(0.00617) is None
    assert told.block_words(0.00617) == "6.17 ms"
    assert told.block_words(256 / 48000) == "5.33 ms, as of 256 samples at 48 kHz"


def test_the_headline_says_how_full_blocks_are_and_which_were_late():
    said = told.headline(seen())
    assert "typical 9.4 %" in said and "none was late" in said
    said = told.headline(seen((500_000,) * 39 + (6_000_000,)))
    assert "9 of" in said or "10 of" in said
    assert "were late" in said


def test_without_a_cycle_or_anything_at_all_it_says_so():
    assert "No cycle found" in told.headline(see(recording(thread(1, [(0, 100), (900, 1000)]))))
    assert "Nothing has run" in told.headline(see(recording(thread(1, []), seconds=3.0)))


def test_findings_name_what_takes_most_what_pushes_and_what_is_not_in_real_time():
    looks = [(begin + 100_000, 1) for begin, _ in blocks(PERIOD, 400, [500_000])]
    of = seen(looks=looks, weight=500_000, real_time=False)
    said = " ".join(told.findings(of, told.table(of, {}), parts(of), {}))
    assert "warm one takes most" in said
    assert "do not run in real time" in said
    assert "give way" not in said
    named = told.table(of, {"/usr/lib/lv2/warm one.lv2": "Warm One"})
    assert named[0].name == "Warm One" and named[0].is_plugin
    of = see(of.recording._replace(lost=3))
    assert "3 records were lost" in " ".join(told.findings(of, named, parts(of), {}))


def test_giving_way_is_said_where_it_happened():
    stretches = []
    for begin, end in blocks(PERIOD, 200, [500_000]):
        stretches += [(begin, begin + 100_000), (begin + 150_000, end)]
    of = see(recording(thread(2, stretches, gave_way=[0])))
    assert "give way to others 1 time while" in " ".join(told.findings(of, [], [], {}))


def test_hosts_in_a_list_are_told_apart_by_their_plugins():
    assert told.host_words("mixer", ["/a/x.lv2"], 1, {}) == "mixer: x; 1 thread in real time"
    assert told.host_words("mixer", ["/a/x.lv2", "/a/y.clap"], 0, {"/a/x.lv2": "X!"}) == (
        "mixer: X!, y; 0 threads in real time"
    )
    assert told.host_words("mixer", [f"/a/{k}.lv2" for k in range(4)], 2, {}) == (
        "mixer: 0 and 3 more; 2 threads in real time"
    )
    assert told.host_words("server", [], 2, {}) == "server: no plugins; 2 threads in real time"


def test_intervals_have_no_more_digits_than_they_have():
    assert told.between(Share(1, 0.2, 0.172, 0.234, 0.0, 10, ())) == "17–23 %"
    assert told.between(Share(1, 0.02, 0.0172, 0.0234, 0.0, 10, ())) == "1.7–2.3 %"


def test_only_real_differences_are_told():
    found = [Change("Tar", 0.5, 0.3, True), Change("Mist", 0.1, 0.102, False), Change("Vault", 0.0, 0.05, True)]
    assert told.change_words(found) == "Against before −15 % of one core: Tar −20 %, Vault +5.0 %."
    assert told.change_words(found[1:2]) == "No difference to before is more than chance."
