"""The history of a document: steps, steps that merge, and what counts as saved."""

from __future__ import annotations

from nimbleload.app.document.document import Document, History
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from tests.helpers.sessions import session

FIRST = Document(session(), Plan(), Machine(4), 256)


def begun(is_clean=True):
    history = History()
    history.begin(FIRST, is_clean)
    return history


def buffer(history, size):
    history.change(f"buffer {size}", history.now._replace(buffer=size), "buffer")


def test_steps_go_back_and_forth():
    history = begun()
    history.change("more cores", FIRST._replace(machine=Machine(8)))
    assert (history.undo_step, history.redo_step, history.is_clean) == ("more cores", None, False)
    assert history.undo() and history.now is FIRST and history.is_clean
    assert history.redo_step == "more cores"
    assert history.redo() and history.now.machine.cores == 8
    assert not history.redo()
    assert history.undo() and not history.undo()


def test_the_same_kind_in_a_row_is_one_step():
    history = begun()
    for size in (512, 1024, 2048):
        buffer(history, size)
    assert history.undo_step == "buffer 2048"
    assert history.undo() and history.now is FIRST
    assert history.undo_step is None


def test_something_in_between_makes_two_steps_of_it():
    history = begun()
    buffer(history, 512)
    history.change("more cores", history.now._replace(machine=Machine(8)))
    buffer(history, 1024)
    assert history.undo() and history.now.buffer == 512 and history.now.machine.cores == 8
    # After going back another press is a step of its own.
    history.undo()
    buffer(history, 128)
    assert history.undo() and history.now.buffer == 512


def test_there_and_back_again_is_no_step():
    history = begun()
    buffer(history, 512)
    buffer(history, 256)
    assert history.undo_step is None and history.is_clean and history.now is FIRST


def test_what_was_saved_in_between_is_not_merged_away():
    history = begun()
    buffer(history, 512)
    history.mark_clean()
    assert history.is_clean
    buffer(history, 1024)
    assert not history.is_clean
    assert history.undo() and history.is_clean and history.now.buffer == 512


def test_a_recovered_document_is_not_saved():
    assert not begun(is_clean=False).is_clean
    assert History().is_clean
