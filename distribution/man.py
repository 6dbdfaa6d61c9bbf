"""The manual page, made from what the commands say of themselves."""

from __future__ import annotations

import inspect
from collections.abc import Iterator

import click

from nimbleload import __version__
from nimbleload.shell import cli


def quoted(text: str) -> str:
    """Text as a manual page holds it: nothing in it is taken for a command."""
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in text.splitlines())


def paragraphs(text: str) -> Iterator[str]:
    for number, part in enumerate(inspect.cleandoc(text).split("\n\n")):
        if number:
            yield ".PP"
        yield quoted(" ".join(part.split()))


def command_lines(name: str, command: click.Command, context: click.Context) -> Iterator[str]:
    """One command: how it is called, what it does, its options."""
    own = click.Context(command, info_name=name, parent=context)
    yield f".SS {quoted(name)}"
    yield f".B {quoted(own.command_path)}"
    yield quoted(" ".join(command.collect_usage_pieces(own)))
    yield ".PP"
    yield from paragraphs(command.help or "")
    for parameter in command.get_params(own):
        record = parameter.get_help_record(own)
        if record is not None and isinstance(parameter, click.Option):
            yield ".TP"
            yield f".B {quoted(record[0])}"
            yield quoted(" ".join(record[1].split())) or "\\&"


def page() -> str:
    """The whole manual page (troff)."""
    context = click.Context(cli, info_name="nimble-load")
    lines = [
        f'.TH NIMBLE\\-LOAD 1 "" "Nimble Load {__version__}" "User commands"', ".SH NAME",
        "nimble\\-load \\- why a heavy mix session overloads, and what it takes to make it fit", ".SH SYNOPSIS",
        ".B nimble\\-load", ".I COMMAND", "[options] ...", ".PP", ".B nimble\\-load\\-desktop", "[file]",
        ".SH DESCRIPTION", *paragraphs(cli.help or ""), ".SH COMMANDS",
    ]  # fmt: skip
    for name in cli.list_commands(context):
        command = cli.get_command(context, name)
        if command is not None and not command.hidden:
            lines += command_lines(name, command, context)
    lines += [
        ".SH FILES", ".TP", ".I ~/.local/share/nimble\\-load", "What was measured on this computer.", ".TP",
        ".I ~/.local/state/nimble\\-load", "The log, and copies of unsaved work.", ".TP", ".I ~/.cache/nimble\\-load",
        "What can be made again: the example's audio, the list of installed plugins, compiled code.",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(page(), end="")
