"""Files are opened in another process first where a library ends the program, or hangs, on damaged ones.

Run as a module it is that process: a request comes in as a line of JSON, an answer goes out.
"""

import contextlib
import json
import os
import resource
import selectors
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any, Literal

from kobrel.errors import KobrelError, SceneError

Kind = Literal["usd", "otio"]
_MORE_BYTES = 1 << 30
"""Memory that opening a file may take beyond its size."""
_START_S, _OPEN_S, _BYTES_S = 60.0, 8.0, 4 << 20
"""Seconds to start, to open a file, and bytes that add one second more."""


class _Process:
    """The other process, started when it is first needed and again when a file has ended it."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._is_ready = False

    def start(self) -> None:
        """Start it, unless it runs; nobody waits for it."""
        with self._lock:
            self._start()

    def _start(self) -> "subprocess.Popen[bytes]":
        if self._process is None or self._process.poll() is not None:
            command = [sys.executable, "-m", "kobrel.stage.read.probe"]
            pipe = subprocess.PIPE
            self._process = subprocess.Popen(command, stdin=pipe, stdout=pipe, stderr=subprocess.DEVNULL)
            self._is_ready = False
        return self._process

    def ask(self, kind: Kind, path: Path) -> bool:
        """Whether a file can be opened; not if the process ended, hung, or took too much."""
        with self._lock:
            process = self._start()
            assert process.stdin is not None
            try:
                if not self._is_ready and self._line(process, _START_S) != "ready":
                    self._end(process)
                    raise SceneError(f"Kobrel's reader does not start with {sys.executable}.")
                self._is_ready = True
                process.stdin.write(json.dumps([kind, os.fsencode(path).decode("latin-1")]).encode() + b"\n")
                process.stdin.flush()
                answer = self._line(process, _OPEN_S + path.stat().st_size / _BYTES_S)
            except OSError:
                answer = None
            if answer is None:
                self._end(process)
            return answer == "fine"

    @staticmethod
    def _line(process: "subprocess.Popen[bytes]", seconds: float) -> str | None:
        assert process.stdout is not None
        until, heard = time.monotonic() + seconds, b""
        with selectors.DefaultSelector() as waiting:
            waiting.register(process.stdout, selectors.EVENT_READ)
            while not heard.endswith(b"\n"):
                if not waiting.select(max(0.0, until - time.monotonic())):
                    return None
                more = os.read(process.stdout.fileno(), 4096)
                if not more:
                    return None
                heard += more
        return heard.decode("utf-8", "replace").strip()

    def _end(self, process: "subprocess.Popen[bytes]") -> None:
        process.kill()
        process.wait()
        self._process = None


_process = _Process()


def start() -> None:
    """Start the other process early, so that nobody waits for it."""
    _process.start()


def require_opens(kind: Kind, path: Path, what: str, error: type[KobrelError] = SceneError) -> None:
    """See that a library can open a file without harm.

    Parameters
    ----------
    what : is said of it if not

    Raises
    ------
    KobrelError
        It cannot.
    """
    if not _process.ask(kind, path):
        raise error(what, file=path, remedy="Export it again.")


def main() -> None:
    """Open files until there are no more."""
    answers = os.fdopen(os.dup(1), "w", buffering=1, encoding="utf-8", errors="replace")
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    answers.write("ready\n")
    for line in sys.stdin.buffer:
        kind, name = json.loads(line)
        path = Path(os.fsdecode(name.encode("latin-1")))
        try:
            _limit(path.stat().st_size)
            _open(kind, path)
        except Exception:  # whatever a library raises, the file is damaged
            answers.write("damaged\n")
        else:
            answers.write("fine\n")


def _limit(size: int) -> None:
    """Take no more memory than a file of this size may need."""
    status = Path("/proc/self/status").read_text(encoding="ascii")
    now = int(status.split("VmData:")[1].split()[0]) * 1024
    hard = resource.getrlimit(resource.RLIMIT_DATA)[1]
    resource.setrlimit(resource.RLIMIT_DATA, (now + _MORE_BYTES + 4 * size, hard))


def _open(kind: Kind, path: Path) -> None:
    if kind == "usd":
        from pxr import Sdf

        layer = Sdf.Layer.OpenAsAnonymous(str(path))
        if layer is None:
            raise ValueError("not readable as USD")
    else:
        import opentimelineio as otio

        _walk(otio.adapters.read_from_file(str(path)))


def _walk(whole: Any) -> None:
    """Ask a list of shots all that its readers ask: some damage ends the library only then."""
    import opentimelineio as otio

    tracks = whole.video_tracks() if isinstance(whole, otio.schema.Timeline) else []
    for part in (whole, *tracks):
        for clip in part.find_clips() if hasattr(part, "find_clips") else ():
            with contextlib.suppress(Exception):  # readers leave such a clip out
                clip.trimmed_range()
                if clip.media_reference is not None:
                    str(clip.media_reference.available_range)
                for marker in clip.markers:
                    str((marker.marked_range, marker.metadata))


if __name__ == "__main__":
    main()
