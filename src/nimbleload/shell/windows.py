"""The commands that open windows or take pictures of them: demo, open, screenshots."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from ..app.frame.application import application
from ..native.garbage import kept
from ..store.library import Library, LibraryError
from .common import cli, demo_saved
from .ready import get_ready, is_ready

# What a window manager draws around a window takes so much of the screen at most (pixels).
AROUND = 48


def make_window():
    """The window with the user's choices and cost library, not yet shown."""
    from ..app.background.to_window_thread import ToWindowThread
    from ..app.frame import log_file
    from ..app.frame.remembered import Remembered
    from ..app.frame.window import MainWindow
    from ..app.look.theme import theme
    from ..store.recovery import Recovery

    log_file.begin()
    log_file.take_qt()
    choices = Remembered()
    theme.begin(application(), choices.theme, choices.scale)
    try:
        store, trouble = Library(), ""
    except LibraryError as error:
        # Without it nothing is kept, but everything else works.
        store, trouble = None, f"{error} What is measured now is not kept."
    window = MainWindow(demo_saved, store, choices, Recovery())
    theme.apply(application(), choices.theme, choices.scale)
    landing = ToWindowThread(window)
    log_file.catch(lambda sentence: landing.post(window.complain, sentence))
    if trouble:
        window.complain(trouble)
    return window


def show_on_screen(window) -> None:
    """Shows a window; on a screen without room for it, and for what is drawn around windows, as large as that."""
    free = window.screen().availableSize()
    fits = window.width() + AROUND <= free.width() and window.height() + AROUND <= free.height()
    window.show() if fits else window.showMaximized()


def run_window(path: Path | None, example: bool = False) -> None:
    """Opens the window, with a file, with the example, or where one begins, and stays until it is closed."""
    # It gets ready on another core while the window is made.
    from ..beside.client import SHARED

    is_compiled = is_ready()
    if is_compiled:
        SHARED.ready()
    from ..app.background.rests import Rests
    from ..app.frame.window import START

    app = application()
    if not is_compiled:
        get_ready()
    with kept():
        window = make_window()
        show_on_screen(window)
    if path is not None:
        window.open_path(path)
    elif example:
        window.open_example()
    else:
        window.go(START)
    window.recovering.offer()
    Rests(lambda: window.desk.is_idle, window)
    sys.exit(app.exec())


@cli.command()
@click.option("--without-window", is_flag=True, help="Run the whole example without a display, and write a report.")
@click.option("--to", type=click.Path(file_okay=False), default="demo-output", help="Where report and pictures go.")
def demo(without_window: bool, to: str) -> None:
    """Open the example session in the window."""
    if without_window:
        from .full_example import run

        run(Path(to))
    else:
        run_window(None, example=True)


@cli.command("open")
@click.argument("file", type=click.Path(exists=True, dir_okay=False), required=False)
def open_(file: str | None) -> None:
    """Open a session (.nimbleload) or an exchange file (.dawproject) in the window."""
    run_window(Path(file) if file else None)


@cli.command()
@click.option("--to", type=click.Path(file_okay=False), default="docs/screenshots", help="Where the pictures go.")
def screenshots(to: str) -> None:
    """Take a picture of each main view, from the example."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from .screenshots import take_all

    for path in take_all(Path(to)):
        click.echo(str(path))
