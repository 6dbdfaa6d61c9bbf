"""The guide as pages for a browser, by the same reader of Markdown that shows it in the window."""

from __future__ import annotations

import os
import re
import shutil
from pathlib import Path

import click

from ..core.units import said_by
from .common import cli

STYLE = (
    "<style>body{max-width:52em;margin:2em auto;padding:0 1em;font-family:sans-serif;line-height:1.5}"
    "img{max-width:100%}table{border-collapse:collapse}td,th{padding:.3em .6em;border:1px solid #999}</style>"
)


@cli.command()
@click.option("--to", type=click.Path(file_okay=False), default="guide", help="Where the pages go (default: guide).")
def guide(to: str) -> None:
    """Write the guide as HTML pages with their pictures."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtGui import QTextDocument

    from ..app.frame.application import application
    from ..app.frame.help import PAGES, folder, page_text

    application()
    target = Path(to)
    try:
        target.mkdir(parents=True, exist_ok=True)
        for name, file in PAGES.items():
            text = page_text(name)
            for picture in re.findall(r"!\[[^]]*\]\(\.\./screenshots/([^)]*)\)", text):
                shutil.copy(folder().parent / "screenshots" / picture, target / picture)
            document = QTextDocument()
            document.setMarkdown(text.replace("](../screenshots/", "]("))
            page = re.sub(r'href="([\w-]+)\.md"', r'href="\1.html"', document.toHtml())
            (target / f"{file}.html").write_text(page.replace("</head>", f"{STYLE}</head>"))
    except OSError as error:
        raise click.ClickException(f"{target} cannot be written: {said_by(error)}.") from error
    click.echo(f"Written to {target / 'index.html'}")
