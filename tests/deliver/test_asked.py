"""What is asked of work meanwhile: to stop, or to stand still."""

from __future__ import annotations

import threading
import time

from nimbleload.deliver import carrying
from nimbleload.deliver.asked import NOTHING_ASKED, Asked
from nimbleload.store import session_file
from tests.helpers.stems import three_freezes


def test_what_is_asked_of_the_whole_is_asked_of_its_parts_and_not_the_other_way_round():
    whole = Asked()
    part, other = Asked(whole), Asked(whole)
    part.stop()
    part.stand_still(True)
    assert (part.is_stopped(), part.is_still()) == (True, True)
    assert not any((whole.is_stopped(), whole.is_still(), other.is_stopped(), other.is_still()))
    whole.stand_still(True)
    assert other.is_still() and not other.is_stopped()
    whole.stand_still(False)
    assert not other.is_still()
    whole.stop()
    assert other.is_stopped() and not NOTHING_ASKED.is_stopped()


def test_what_stands_still_goes_on_or_is_stopped():
    asked = Asked()
    assert asked.goes_on()
    for end, goes_on in ((lambda: asked.stand_still(False), True), (asked.stop, False)):
        asked.stand_still(True)
        found = []
        waiting = threading.Thread(target=lambda found=found: found.append(asked.goes_on()))
        waiting.start()
        time.sleep(0.3)
        assert found == []
        end()
        waiting.join(10)
        assert found == [goes_on]


def test_while_it_stands_still_nothing_is_rendered_and_then_all_is(tmp_path):
    source = three_freezes(tmp_path, 120)
    saved, asked, steps = session_file.read(tmp_path / "mix.nimbleload"), Asked(), []
    prepared = carrying.prepare(saved.session, saved.plan, 512)

    def work():
        steps.extend([])
        for step in carrying.run(prepared, tmp_path / "out", asked=asked):
            steps.append(step)

    running = threading.Thread(target=work)
    running.start()
    while not steps:
        time.sleep(0.01)
    asked.stand_still(True)
    # What was under way is through, and workers have heard of it.
    time.sleep(1.0)
    told = len(steps)
    time.sleep(0.5)
    assert running.is_alive() and len(steps) == told
    asked.stand_still(False)
    running.join(120)
    assert sum(step.rendered is not None for step in steps) == 3 and not any(step.trouble for step in steps)
    assert source.exists()
