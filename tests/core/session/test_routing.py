"""Routing as a graph: order, cycles that are named, targets that do not exist."""

from __future__ import annotations

import random

import msgspec
import pytest

from nimbleload.core.session.routing import build, edges, upstream
from nimbleload.core.session.session import SessionError
from nimbleload.core.session.strips import Send, Strip
from tests.helpers.sessions import bus, random_session, session, track, use


def test_every_strip_comes_after_all_that_feed_it():
    for seed in range(200):
        graph = build(random_session(random.Random(seed)))
        place = {task: k for k, task in enumerate(graph.order)}
        for task in range(len(graph.ids)):
            for target in graph.successors[graph.first[task] : graph.first[task + 1]]:
                assert place[task] < place[target]
        assert sorted(graph.order) == list(range(len(graph.ids)))


def test_outputs_sends_and_side_chains_are_edges():
    listening = msgspec.structs.replace(track("b"), inserts=(use("comp", sidechain="a"),))
    of = session(track("a", sends=(Send("r"), Send("r", enabled=False))), listening, bus("r", kind="return"))
    names = {(of.strips[i].id, of.strips[j].id) for i, j in edges(of)}
    assert names == {("a", "main"), ("a", "r"), ("a", "b"), ("b", "main"), ("r", "main")}


def test_a_bypassed_plugin_does_not_listen():
    listening = msgspec.structs.replace(track("b"), inserts=(use("comp", sidechain="a", enabled=False),))
    of = session(track("a"), listening)
    assert (0, 1) not in edges(of)


def test_a_circle_names_its_strips_in_order():
    of = session(track("x"), bus("Echo", output="Room"), bus("Room", output="Plate"), bus("Plate", output="Echo"))
    with pytest.raises(SessionError) as caught:
        build(of)
    names = str(caught.value).split(": ")[1].split(" → ")
    assert names[0] == names[-1]
    assert set(names) == {"Echo", "Room", "Plate"}
    assert "Echo → Room" in str(caught.value)


def test_a_strip_that_feeds_itself_is_a_circle():
    with pytest.raises(SessionError, match="Loop → Loop"):
        build(session(bus("Loop", output="Loop")))


@pytest.mark.parametrize(
    ("strip", "words"),
    [
        (track("a", output="nowhere"), "'a' feeds a strip that does not exist: 'nowhere'"),
        (track("a", sends=(Send("gone"),)), "'a' feeds a strip that does not exist: 'gone'"),
        (Strip("a", "A", inserts=(use("comp", sidechain="ghost"),)), "'comp' on 'A' listens to a strip"),
    ],
)
def test_what_leads_nowhere_is_named(strip, words):
    with pytest.raises(SessionError, match=words):
        build(session(strip))


def test_two_strips_with_one_id_are_refused():
    with pytest.raises(SessionError, match="share the id 'a'"):
        build(session(track("a"), track("a")))


def test_upstream_is_all_that_can_be_heard_on_a_strip():
    of = session(track("a", output="b"), track("c"), bus("b"), track("d", sends=(Send("b"),)))
    assert upstream(of, "b") == {"a", "b", "d"}
    assert upstream(of, "main") == {"a", "b", "c", "d", "main"}
