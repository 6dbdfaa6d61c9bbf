"""Sessions from exchange files, and newer exports of the same mix, from a shell."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.survey import Survey
from ..core.told.as_known import is_unknown
from ..core.told.newer import newer_load
from ..store import renewing, session_file
from ..store.archive import ImportRefusedError
from ..store.dawproject import ImportReport
from ..store.opening import EXCHANGE_SUFFIX
from .common import as_json, cli, opened, refuse, show_json, written
from .session import survey_of


@cli.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
@click.option("--to", type=click.Path(dir_okay=False), help="Where to write the session file (default: beside FILE).")
@click.option("--replace", "over", is_flag=True, help="Write over a session file that is there, and its plan.")
@as_json
def import_(file: str, to: str | None, over: bool, json: bool) -> None:
    """Read an exchange file (.dawproject) and write it as a Nimble Load session; FILE itself is not changed."""
    result = opened(file)
    target = Path(to) if to else Path(file).with_suffix(session_file.SUFFIX)
    _refuse_ending(target)
    if target.exists() and not over:
        raise click.ClickException(
            f"{target} is there already, perhaps with a plan in it: it was not changed. --replace writes over it, "
            "--to somewhere else; nimble-load renew takes the newer export in and keeps the plan."
        )
    written(target, result.saved)
    if json:
        show_json({"written": str(target), "report": result.report})
        return
    if result.report is not None:
        _say(result.report)
    click.echo(f"Written to {target}")


@cli.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
@click.argument("newer", type=click.Path(exists=True, dir_okay=False), required=False)
@click.option("--to", type=click.Path(dir_okay=False), help="Where to write the session (default: into FILE).")
@click.option("--show", is_flag=True, help="Only say what would become of it.")
@as_json
def renew(file: str, newer: str | None, to: str | None, show: bool, json: bool) -> None:
    """Take a NEWER export (.dawproject) of its mix into the session FILE: the plan, what is done or in work, host and
    limit go on for what is the same, whatever ids and names are now.

    Without NEWER it is the exchange file that FILE came from, as it is now.
    """
    saved = opened(file).saved
    target = Path(to or file)
    _refuse_ending(target)
    source = Path(newer or saved.session.source)
    if source.suffix.lower() != EXCHANGE_SUFFIX:
        lacks = f"{newer} is no exchange file ({EXCHANGE_SUFFIX})" if newer else f"{file} came from no exchange file"
        raise click.ClickException(f"{lacks}: say which one to take in.")
    try:
        made = renewing.renewal(saved, source.absolute())
    except ImportRefusedError as error:
        refuse(error)
    before, now = survey_of(saved, None), survey_of(made.saved, None)
    if not show:
        written(target, made.saved)
    if json:
        loads = {name: worst_of(of) for name, of in (("before", before), ("now", now))}
        show_json({"written": None if show else str(target), "report": made.report, "said": made.said, "worst": loads})
        return
    _say(made.report)
    for line in (*made.said, newer_load(before, now)):
        click.echo(line)
    click.echo("Nothing was written." if show else f"Written to {target}")


def worst_of(of: Survey) -> float | None:
    """The highest load with the plan (fraction of the deadline); None if it is not known."""
    return None if is_unknown(of) else of.after.highest


def _refuse_ending(target: Path) -> None:
    if target.suffix != session_file.SUFFIX:
        raise click.ClickException(f"{target.name} should end in {session_file.SUFFIX}.")


def _say(report: ImportReport) -> None:
    click.echo(f"{report.file}{f', written by {report.program}' if report.program else ''}")
    for line in report.understood:
        click.echo(f"  understood: {line}")
    for line in report.left_out:
        click.echo(f"  left out:   {line}")
