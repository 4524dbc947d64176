"""The process that reads an archive: python -m kobrel.stage.read.alembic.serve FILE."""

import json
import os
import sys
from pathlib import Path
from typing import Any

from kobrel.errors import KobrelError
from kobrel.stage.read.alembic.wire import packed


def main() -> None:
    """Answer questions until there are no more."""
    answers = os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())  # what a library prints is no answer

    def say(*answer: Any) -> None:
        answers.write(packed(answer))
        answers.flush()

    try:
        from kobrel.stage.read.alembic.archive import Archive

        archive = Archive(Path(sys.argv[1]))
    except RuntimeError:
        return
    except ImportError:
        say("failed", "Alembic is not read on this machine.")
        return
    while True:
        question = sys.stdin.buffer.readline()
        if not question:
            return
        name, *arguments = json.loads(question)
        value: Any
        try:
            if name == "scene":
                value = archive.scene(lambda what, part: say("progress", what, part))
            else:
                value = archive.points(*arguments)
        except (KobrelError, RuntimeError) as error:
            say("failed", error.what if isinstance(error, KobrelError) else "it is damaged.")
        else:
            say("done", value)


if __name__ == "__main__":
    main()
