"""Memory: what the machine has, and whether there is enough before much of it is taken."""

import math
import os
import re
from pathlib import Path

from kobrel.errors import KobrelError


def total_memory() -> float:
    """Bytes of memory that the machine has."""
    return float(os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"))


def spare_memory() -> float:
    """Bytes of memory that the machine can give; infinite where it does not tell."""
    try:
        told = Path("/proc/meminfo").read_text(encoding="ascii")
        return float(re.findall(r"MemAvailable:\s+(\d+) kB", told)[0]) * 1024
    except (OSError, IndexError, ValueError):
        return math.inf


def require_memory(
    needed_bytes: float, what: str, file: Path | str = "", kind: type[KobrelError] = KobrelError
) -> None:
    """See that there is memory for something, before it is taken.

    Raises
    ------
    KobrelError
        The machine has not so much to spare.
    """
    there = spare_memory()
    if not needed_bytes <= there:
        raise kind(
            f"{what} would take {needed_bytes / 2**30:.1f} GB of memory, {there / 2**30:.1f} GB are free.",
            file=file,
            remedy="Use a smaller one, or close other programs.",
        )


def bytes_text(count: float) -> str:
    """Bytes in words.

    >>> bytes_text(3 << 29), bytes_text(5_000_000)
    ('1.5 GB', '5 MB')
    """
    return f"{count / 2**30:.1f} GB" if count >= 2**30 else f"{count / 2**20:.0f} MB"
