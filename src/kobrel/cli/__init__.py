"""The command line: the same work without a window."""

import kobrel.cli.alone  # isort: skip  # noqa: F401, before any library is loaded

import errno
import logging
import os
import sys
import warnings
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import typer
from typer.exceptions import Exit, TyperException

from kobrel import __version__, notices
from kobrel.cli import (
    desktop,
    export,
    farm,
    files,
    manual,
    numbers,
    pictures,
    rendered,
    reply,
    shots,
    streams,
)
from kobrel.cli.shared import app, warn
from kobrel.errors import KobrelError

COMMANDS = tuple(
    command.name or command.callback.__name__ for command in app.registered_commands if command.callback
)
_MOST_SAID = 2000
_NOT_WRITTEN = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO)
__all__ = [
    "desktop",
    "export",
    "farm",
    "files",
    "main",
    "numbers",
    "pictures",
    "rendered",
    "run_command",
    "shots",
]


def _window(arguments: list[str]) -> int:
    """Open the window: ``kobrel [PLAN|SCENE]``, ``kobrel --demo``, with ``--pictures FOLDER``."""
    import argparse

    parser = argparse.ArgumentParser(
        prog="kobrel",
        description="Plan depth of field. Without a command this opens the window.",
        epilog=f"Commands: {', '.join(COMMANDS)}. Each explains itself with --help.",
    )
    parser.add_argument("file", nargs="?", type=Path, metavar="PLAN|SCENE")
    parser.add_argument("--demo", action="store_true", help="open the demo, Night Ferry")
    parser.add_argument(
        "--pictures", type=Path, metavar="FOLDER", help="write a PNG of each main view and end"
    )
    parser.add_argument(
        "--views", type=lambda names: names.split(","), metavar="NAMES", help="only these pictures, a,b,c"
    )
    parser.add_argument("--version", action="version", version=f"kobrel {__version__}")
    chosen = parser.parse_args(arguments)
    if chosen.file is not None and not os.path.lexists(chosen.file):
        raise KobrelError(
            f"no such file, and no command of Kobrel's ({', '.join(COMMANDS)}).", file=chosen.file
        )
    if not chosen.pictures and not _has_display():
        raise KobrelError("no display available.", remedy="The commands work without: kobrel --help.")
    from kobrel.desk.window.app import run

    return run(chosen.file, demo=chosen.demo, pictures=chosen.pictures, views=chosen.views)


def _has_display() -> bool:
    names = ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    return any(os.environ.get(name) for name in names)


def main() -> None:
    """Entry point; ends the process with 0, or 2 and one line on stderr for bad input, or 70 for a fault
    inside.
    """
    if not os.environ.get("KOBREL_DEBUG"):
        _quiet_libraries()
    sys.exit(run_command(sys.argv[1:]))


def _quiet_libraries() -> None:
    """Keep from the terminal what libraries print there by themselves; what matters Kobrel tells."""
    warnings.simplefilter("ignore")
    logging.disable(logging.CRITICAL)
    ours = os.dup(2)
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 2)
    os.close(nowhere)
    sys.stderr = os.fdopen(ours, "w", buffering=1, encoding="utf-8", errors="replace")


def one_line(error: Exception) -> str:
    """What is wrong in one line, whatever names are in it."""
    text = " ".join(str(error).split())
    return text.encode("utf-8", "replace").decode()[:_MOST_SAID]


def run_command(arguments: list[str]) -> int:
    """Run one command and return its exit status."""
    if not arguments or arguments[0] not in COMMANDS:
        return _guarded(lambda: _window(arguments))[0]
    if "--json" not in arguments:
        return _guarded(lambda: _run_on_files(arguments))[0]
    name, output = arguments[0], _output_of(arguments)
    if _answers_itself(name):
        status, error = _guarded(lambda: _run_on_files(arguments))
        if error is None:
            return status
        answer = reply.Reply(name, output)
    else:
        plain = [word for word in arguments if word != "--json"]
        with reply.gathered(name, output) as answer:
            status, error = _guarded(lambda: _run_on_files(_with_a_file(plain, output)))
    answer.status = status
    if error is not None:
        answer.error = reply.fault_of(error)
    typer.echo(reply.to_json(answer))
    return status


def _answers_itself(name: str) -> bool:
    """Whether a command's answer as JSON has a form of its own."""
    return any("--json" in parameter.opts for parameter in manual.commands(former=True)[name].params)


def _output_of(arguments: list[str]) -> str:
    """The file that is named to be written."""
    named = [after for word, after in pairwise(arguments) if word in ("-o", "--output")]
    return named[0] if named else ""


def _with_a_file(arguments: list[str], output: str) -> list[str]:
    """The arguments, where they name no stream to write to, which the answer takes."""
    if output.startswith("-"):
        raise KobrelError("Standard output cannot take both the file and the answer.")
    return arguments


def _run_on_files(arguments: list[str]) -> int:
    with streams.as_files(arguments) as named:
        status = int(app(named, prog_name="kobrel", standalone_mode=False) or 0)
    warn(notices.take())
    return status


def _guarded(run: Callable[[], int]) -> tuple[int, Exception | None]:
    """Run something; its exit status, and why it failed if that was said on stderr."""
    try:
        return run(), None
    except Exit as end:
        return end.exit_code, None
    except TyperException as error:
        typer.echo(f"kobrel: {error.format_message()}", err=True)
        return 2, KobrelError(error.format_message())
    except KobrelError as error:
        typer.echo(f"kobrel: {one_line(error)}", err=True)
        return 2, error
    except (BrokenPipeError, KeyboardInterrupt):
        typer.echo("kobrel: stopped.", err=True)
        return 130, None
    except Exception as error:
        if isinstance(error, OSError) and error.filename is None and error.errno in _NOT_WRITTEN:
            full = KobrelError(f"the answer cannot be written ({error.strerror}).")
            typer.echo(f"kobrel: {one_line(full)}", err=True)
            return 2, full
        if os.environ.get("KOBREL_DEBUG"):
            raise
        typer.echo(
            f"kobrel: something went wrong inside ({type(error).__name__}: {one_line(error)}). "
            "With KOBREL_DEBUG=1 it says where.",
            err=True,
        )
        return 70, error
