"""``-`` for standard input in the place of a plan or a list, and for standard output after ``-o``."""

import contextlib
import os
import re
import shutil
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from kobrel.errors import KobrelError

_OUTPUT = re.compile(r"-(\.\w+)?")
_ENDINGS = {
    "new": ".kobrel", "solve": ".kobrel", "import": ".kobrel", "render": ".png", "movie": ".mp4",
    "sound": ".wav", "iris": ".png", "shots": ".otio", "thumbnail": ".png", "defocus": ".png",
}  # fmt: skip
"""What is written to standard output unless it is said, as in ``-o -.exr``."""
_EXPORTS = {"gltf": ".glb", "tables": ".csv"}
"""The same of exports that are not written by their usual ending."""
_INPUTS = {"batch": ".json"}


@contextlib.contextmanager
def as_files(arguments: list[str]) -> Iterator[list[str]]:
    """Arguments with files in the place of streams; standard output is written when all went well.

    Raises
    ------
    KobrelError
        A stream cannot take the place of that file.
    """
    with contextlib.ExitStack() as stack:
        changed, outputs = list(arguments), list[Path]()
        for index, word in enumerate(arguments[1:], 1):
            before = arguments[index - 1]
            if before in ("-o", "--output") and _OUTPUT.fullmatch(word):
                folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="kobrel-out-")))
                outputs.append(folder / f"out{word[1:] or _ending(arguments)}")
                changed[index] = str(outputs[-1])
            elif word == "-" and not before.startswith("-"):
                changed[index] = str(stack.enter_context(_typed(_INPUTS.get(arguments[0], ".kobrel"))))
        yield changed
        for path in outputs:
            if path.is_file():
                with path.open("rb") as file:
                    shutil.copyfileobj(file, sys.stdout.buffer)
                sys.stdout.flush()


def _ending(arguments: list[str]) -> str:
    name = arguments[0]
    ending = _ENDINGS.get(name)
    if name == "export" and "--as" in arguments[:-1]:
        from kobrel.exchange.export import KINDS

        name = arguments[arguments.index("--as") + 1]
        usual = next((kind.endings[0] for kind in KINDS.values() if kind.key == name), None)
        ending = _EXPORTS.get(name, usual)
    if ending is None:
        raise KobrelError(f"{name} writes several files; they cannot go to standard output.")
    return ending


@contextlib.contextmanager
def _typed(ending: str) -> Iterator[Path]:
    """Standard input as a file in the working folder, so that paths in it start there."""
    here = Path.cwd()
    folder = here if os.access(here, os.W_OK) else Path(tempfile.gettempdir())
    handle, name = tempfile.mkstemp(prefix=".kobrel-in-", suffix=ending, dir=folder)
    try:
        with os.fdopen(handle, "wb") as file:
            shutil.copyfileobj(sys.stdin.buffer, file)
        yield Path(name)
    finally:
        Path(name).unlink(missing_ok=True)
