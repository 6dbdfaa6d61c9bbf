"""A plugin is named once in what is told of it."""

from __future__ import annotations

import pytest

from nimbleload.core.told.trouble import trouble_of


@pytest.mark.parametrize(
    ("reason", "called", "sentence"),
    [
        ("crashed: SIGABRT", "", "Hall crashed: SIGABRT."),
        ("Hall has no window of its own.", "", "Hall has no window of its own."),
        ("Hall has no window of its own.", "it", "Hall has no window of its own."),
        ("did not accept the state.", "it", "it did not accept the state."),
        ("No LV2 plugin urn:hall is installed here.", "it", "Hall: No LV2 plugin urn:hall is installed here."),
    ],
)
def test_it_is_named_once(reason, called, sentence):
    assert trouble_of("Hall", reason, called) == sentence
