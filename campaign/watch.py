"""Watched children: each case is run in one, which may end, hang or take too much."""

import math
import os
import selectors
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import NamedTuple

HANG_S, LONGEST_S = 20.0, 180.0
"""Time of the processor that a case may take, and time by the clock; machines have other work too."""
MOST_MB = 1024
"""Memory that a case may take beyond what the child has anyway and the file's size."""
_START_S = 120.0


class Outcome(NamedTuple):
    """How a case went: ok, refused, fault, signal, hang or memory; and the details."""

    kind: str
    details: str = ""

    @property
    def is_fine(self) -> bool:
        """Whether Kobrel used the file or refused it."""
        return self.kind in ("ok", "refused")


class Child:
    """A child that uses files; started anew whenever one ended it."""

    def __init__(self, environment: dict[str, str] | None = None) -> None:
        self._environment = {**os.environ, "PYTHONPATH": os.getcwd(), **(environment or {})}
        self._process: subprocess.Popen[bytes] | None = None
        self._base_mb = 0
        self._left = b""

    def run(self, path: Path) -> Outcome:
        """Let it use a file."""
        process = self._started()
        assert process.stdin is not None
        process.stdin.write(os.fsencode(path) + b"\n")
        process.stdin.flush()
        lines: list[str] = []
        until, used = time.monotonic() + LONGEST_S, _processor_s(process.pid)
        while True:
            line = self._line(until, used + HANG_S)
            if line is None:
                return self._ended()
            lines.append(line)
            if len(lines) > 1 and lines[-2] == ".":
                break
        told, peak = "\n".join(lines[:-2]), int(lines[-1])
        size = os.path.getsize(path) >> 20 if os.path.isfile(path) else 0
        if peak - self._base_mb > MOST_MB + size:
            self.end()
            return Outcome("memory", f"{peak - self._base_mb} MB")
        kind, _, details = told.partition("\n" if told.startswith("fault") else " ")
        return Outcome(kind, details)

    def _started(self) -> subprocess.Popen[bytes]:
        if self._process is None:
            command = [sys.executable, "-m", "campaign.use"]
            self._process = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=self._environment
            )
            self._left = b""
            if self._line(time.monotonic() + _START_S) != "ready":
                raise RuntimeError("the child does not start")
            self._base_mb = _memory_mb(self._process.pid)
        return self._process

    def _line(self, until: float, most_s: float = math.inf) -> str | None:
        """The next line that it says; None if it ended, or said nothing in time: by the clock, or of the
        processor's.
        """
        process = self._process
        assert process is not None
        assert process.stdout is not None
        with selectors.DefaultSelector() as waiting:
            waiting.register(process.stdout, selectors.EVENT_READ)
            while b"\n" not in self._left:
                if not waiting.select(1.0):
                    if time.monotonic() > until or _processor_s(process.pid) > most_s:
                        return None
                    continue
                more = os.read(process.stdout.fileno(), 1 << 16)
                if not more:
                    return None
                self._left += more
        line, _, self._left = self._left.partition(b"\n")
        return line.decode("utf-8", "replace")

    def _ended(self) -> Outcome:
        """What became of a child that does not answer."""
        process = self._process
        assert process is not None
        time.sleep(0.05)
        status = process.poll()
        self.end()
        if status is None:
            return Outcome("hang", f"over {HANG_S:g} s of the processor, or {LONGEST_S:g} s")
        return Outcome("signal", signal.Signals(-status).name if status < 0 else f"status {status}")

    def end(self) -> None:
        """End the child."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._process = None


def _processor_s(process: int) -> float:
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def _memory_mb(process: int) -> int:
    status = Path(f"/proc/{process}/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0]) // 1024
