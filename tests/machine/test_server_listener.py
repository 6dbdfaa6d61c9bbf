"""Joining a sound server that is late with its own work."""

from __future__ import annotations

from types import SimpleNamespace

import pytest

from nimbleload.machine import server_listener
from nimbleload.machine.server_listener import TRIES, Listener


class JackError(Exception):
    pass


def library(refused):
    """A server's library whose server does not take a client in so many times; and what was done with clients."""
    done = []

    def client(name, **_):
        def activate():
            if done.count("closed") < refused:
                raise JackError("error activating")

        done.append("made")
        named = {f"set_{each}_callback": lambda _: None for each in ("xrun", "blocksize", "shutdown")}
        return SimpleNamespace(activate=activate, close=lambda: done.append("closed"), **named)

    return SimpleNamespace(Client=client, JackError=JackError), done


@pytest.fixture(autouse=True)
def at_once(monkeypatch):
    monkeypatch.setattr(server_listener, "EVERY", 0.0)


@pytest.mark.parametrize("refused", range(TRIES))
def test_a_server_that_answers_too_late_is_asked_again(refused):
    jack, done = library(refused)
    Listener(jack, "JACK", "default", 1)
    assert done == [*["made", "closed"] * refused, "made"], "none is left behind"


def test_one_that_never_takes_it_in_is_told():
    jack, done = library(TRIES)
    with pytest.raises(JackError, match="error activating"):
        Listener(jack, "JACK", "default", 1)
    assert done == ["made", "closed"] * TRIES
