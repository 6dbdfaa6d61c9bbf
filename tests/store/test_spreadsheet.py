"""The library as CSV: what goes out comes in again, marked as what it is; a bad row is named, nothing taken in."""

from __future__ import annotations

import csv
import io

import pytest

from nimbleload.store.library import TYPED, Library, LibraryError
from nimbleload.store.opening import known_cards
from nimbleload.store.spreadsheet import HEADER, export, import_
from tests.helpers.sessions import card, session, track, use


@pytest.fixture
def library(tmp_path):
    return Library(tmp_path / "here.sqlite", "here")


def row(**changes: str) -> str:
    """A CSV of one good row, with changes."""
    good = {
        "machine": "there",
        "identifier": "eq",
        "rate (Hz)": "48000",
        "buffer (samples)": "256",
        "mean (µs)": "12.5",
    }
    good.update(changes)
    out = io.StringIO()
    writer = csv.DictWriter(out, good)
    writer.writeheader()
    writer.writerow(good)
    return out.getvalue()


def test_what_goes_out_comes_in_again_as_from_elsewhere(library, tmp_path):
    one = card(use("eq, “the” one"), 1.5e-4, 2e-5)
    library.store(one, one.cells)
    text = export(library)
    assert text.splitlines()[0].split(",") == list(HEADER)
    other = Library(tmp_path / "other.sqlite", "other")
    assert import_(text, other) == 16
    assert other.cards() == {}
    found = other.cards(machine="here")[one.key]
    assert {c.provenance for c in found.cells} == {"elsewhere"}
    assert found.cost(48000, 256, "sounding").seconds == pytest.approx(1.5e-4)
    assert found.name == "eq, “the” one"


def test_figures_from_here_are_measured_again_after_a_round_trip(library, tmp_path):
    one = card(use("eq"), 1.5e-4)
    library.store(one, one.cells)
    again = Library(tmp_path / "again.sqlite", "here")
    import_(export(library), again)
    assert {c.provenance for c in again.cards()[one.key].cells} == {"measured"}


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"mean (µs)": "a lot"}, "Row 2: mean is 'a lot', which is no number"),
        ({"mean (µs)": "-1"}, "mean is '-1' µs, which is not possible"),
        ({"mean (µs)": "nan"}, "which is not possible"),
        ({"mean (µs)": ""}, "which is no number"),
        ({"rate (Hz)": "48000.5"}, "rate (Hz) is '48000.5'; it must be a whole number"),
        ({"buffer (samples)": "0"}, "from 1 to 65536"),
        ({"condition": "loud"}, "condition 'loud' is not known"),
        ({"machine": ""}, "must be given"),
        ({"condition": "sounding", "shared (times)": "0.5"}, "shared is '0.5' times; it must be from 1"),
        ({"condition": "sounding", "shared (times)": "often"}, "shared is 'often', which is no number"),
    ],
)
def test_a_bad_row_is_named_and_nothing_is_taken_in(library, changes, words):
    good_then_bad = (
        row().rstrip() + "\n" + row(**changes).splitlines()[1] if "condition" not in changes else row(**changes)
    )
    with pytest.raises(LibraryError) as caught:
        import_(good_then_bad, library)
    assert words.replace("Row 2", "Row 3") in str(caught.value) or words in str(caught.value)
    assert "Nothing was taken in" in str(caught.value)
    assert library.machines() == []


def test_a_file_without_the_columns_is_refused(library):
    with pytest.raises(LibraryError, match=r"no column 'machine'"):
        import_("a,b\n1,2\n", library)
    with pytest.raises(LibraryError, match="no column"):
        import_("", library)


def test_typed_readings_fill_gaps_and_measured_figures_come_first(library):
    of = session(track("a", "eq", "comp", "verb"))
    eq, comp, verb = (card(use(name), 1e-4) for name in ("eq", "comp", "verb"))
    library.store(eq, eq.cells)
    for each in (eq, comp):
        library.store(card(use(each.name), 9e-4), card(use(each.name), 9e-4).cells, TYPED)
    for each in (eq, comp, verb):
        library.store(card(use(each.name), 5e-4), card(use(each.name), 5e-4).cells, "there")
    found = known_cards(of, library)
    figures = {c.name: c.cost(48000, 256, "sounding") for c in found.values()}
    assert figures == {"eq": (1e-4, "measured"), "comp": (9e-4, "typed"), "verb": (5e-4, "elsewhere")}
