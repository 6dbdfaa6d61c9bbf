"""How figures are written."""

from __future__ import annotations

import pytest

from nimbleload.core.units import (
    about,
    all_of,
    as_sentence,
    clock,
    compared,
    exact_clock,
    from_clock,
    listed,
    milliseconds,
    minutes,
    percent,
    said_by,
    told_by,
)


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (1.31, "131 %"),
        (0.0995, "10 %"),
        (0.074, "7.4 %"),
        (0, "0.0 %"),
        (-0.0001, "0.0 %"),
        (0.996, "99.6 %"),
        (1.0, "100 %"),
        (1.004, "100.4 %"),
    ],
)
def test_loads_are_written_with_the_digits_that_matter(value, text):
    assert percent(value) == text


@pytest.mark.parametrize(
    ("value", "text"), [(1.31, "131 %"), (0.0995, "10 %"), (0.074, "7.4 %"), (0.996, "100 %"), (1.004, "100 %")]
)
def test_what_just_fits_has_its_digit_as_a_load_alone(value, text):
    assert compared(value) == text


@pytest.mark.parametrize(("value", "text"), [(134.4, "2:14"), (0, "0:00"), (59.99, "0:59"), (3725, "62:05")])
def test_positions_are_minutes_and_seconds(value, text):
    assert clock(value) == text


@pytest.mark.parametrize(
    ("error", "words"),
    [
        (FileNotFoundError(2, "No such file or directory", "/gone/.x.q7"), "No such file or directory"),
        (OSError("the disk is full"), "the disk is full"), (ValueError("7 is odd"), "7 is odd"),
        (MemoryError(), "MemoryError"),
    ],
)  # fmt: skip
def test_what_an_error_says_has_no_numbers_of_the_systems_and_is_never_empty(error, words):
    assert said_by(error) == words
    named = "/gone/.x.q7" if getattr(error, "filename", None) else ""
    assert told_by(error) == (f"{words}: {named}" if named else words)


@pytest.mark.parametrize(("value", "text"), [(0.00533, "5.33 ms"), (0.0107, "10.7 ms"), (0.171, "171 ms")])
def test_short_times_have_three_digits(value, text):
    assert milliseconds(value) == text


@pytest.mark.parametrize(
    ("value", "text"),
    [(0.0, "nothing"), (0.04, "under 0.1 min"), (0.52, "0.5 min"), (9.94, "9.9 min"), (12.4, "12 min")],
)
def test_prices_are_minutes(value, text):
    assert minutes(value) == text


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(0.01, "1 s"), (1.4, "1 s"), (89.4, "89 s"), (89.6, "1 min"), (150.1, "3 min"), (3600, "1 h"),
     (4800, "1 h 20 min"), (3570.1, "1 h"), (7150, "1 h 59 min")],
)  # fmt: skip
def test_how_long_something_takes_is_about_right(seconds, text):
    assert about(seconds) == f"about {text}"


@pytest.mark.parametrize(
    ("words", "text"),
    [
        ("the host JACK has ended", "The host JACK has ended."),
        ("/home/Me/Mix.nimblewatch is damaged.", "/home/Me/Mix.nimblewatch is damaged."),
    ],
)
def test_a_sentence_keeps_every_letter_but_its_first(words, text):
    assert as_sentence(words) == text


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(0, "0:00"), (0.5, "0:00.5"), (59.994, "0:59.99"), (59.996, "1:00"), (134.5, "2:14.5"), (605.05, "10:05.05"),
     (3600, "60:00"), (40, "0:40")],
)  # fmt: skip
def test_places_to_a_hundredth_of_a_second_and_back(seconds, text):
    assert exact_clock(seconds) == text
    assert from_clock(text) == pytest.approx(seconds, abs=0.0051)


@pytest.mark.parametrize(
    ("text", "seconds"), [("-0:30", -30), ("-2.5", -2.5), (" -1:02 ", -62), (":07", 7), ("1:90", 150)]
)
def test_a_place_may_be_typed_in_other_ways_and_how_far_to_move_as_well(text, seconds):
    assert from_clock(text) == seconds


@pytest.mark.parametrize("text", ["", ":", "nan", "inf", "-inf", "1:-5", "--5", "1:2:3", "one", "1:nan"])
def test_what_is_no_place_is_refused(text):
    with pytest.raises(ValueError):
        from_clock(text)


def test_names_in_a_row_are_no_more_than_can_be_read():
    assert listed(["Oars"]) == "Oars"
    assert listed(["Oars", "Rope", "Rain"]) == "Oars, Rope, Rain"
    assert listed(["Oars", "Rope", "Rain", "Storm"]) == "Oars, Rope, Rain and 1 more"
    assert listed(["Oars", "Rope", "Rain"], 1) == "Oars and 2 more"


def test_what_belongs_together_is_joined_by_and():
    assert all_of(["Oars"]) == "Oars"
    assert all_of(["Oars", "Rope"]) == "Oars and Rope"
    assert all_of(["Oars", "Rope", "Rain"]) == "Oars, Rope and Rain"
    assert all_of(["Oars", "Rope", "Rain", "Storm"]) == "Oars, Rope, Rain and 1 more"
