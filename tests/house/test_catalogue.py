"""The table of house processors: names, ranges, and refusals that say what is wrong."""

from __future__ import annotations

import importlib

import pytest

from nimbleload.house.catalogue import PROCESSORS, complete
from nimbleload.house.instance import Instance


def test_nine_processors_seven_effects_and_two_instruments():
    assert len(PROCESSORS) == 9
    assert sum(p.is_instrument for p in PROCESSORS.values()) == 2
    assert len({p.name for p in PROCESSORS.values()}) == 9


@pytest.mark.parametrize("identifier", list(PROCESSORS))
def test_every_setting_runs_at_both_ends_of_its_range(identifier):
    for end in ("least", "most"):
        values = {spec.name: float(getattr(spec, end)) for spec in PROCESSORS[identifier].settings}
        instance = Instance(identifier, values, 44100)
        assert instance.plugin
        assert instance.latency >= 0


@pytest.mark.parametrize("identifier", list(PROCESSORS))
def test_every_module_explains_itself(identifier):
    module = importlib.import_module(f"nimbleload.house.{PROCESSORS[identifier].module}")
    assert PROCESSORS[identifier].name in (module.__doc__ or "")


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"bands": 17}, "from 1 to 16"),
        ({"bands": 2.5}, "whole number"),
        ({"colour": 1}, "no setting 'colour'"),
        ({"q": float("nan")}, "q must be"),
    ],
)
def test_a_setting_that_cannot_be_is_refused(values, words):
    with pytest.raises(ValueError, match=words):
        complete("house.shoreline", values)


def test_an_unknown_processor_is_a_key_error():
    with pytest.raises(KeyError):
        Instance("house.nothing", {}, 48000)
