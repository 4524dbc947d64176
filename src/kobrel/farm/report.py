"""How far a job is."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

Want = Literal["go", "pause", "cancel"]


@dataclass(frozen=True)
class Report:
    """How far a job is.

    Parameters
    ----------
    total, made, failed : items
    found : of those made, how many were there from before
    running : items that somebody works on now
    retried : how often an item was begun again, because who made it died, was slow, or failed
    workers : by address, how many items each has made
    seconds : since the beginning
    left_s : about how long it still takes; none where that cannot be known yet
    bytes_sent : of files that workers lacked
    told : what is to be known, in sentences
    """

    total: int = 0
    made: int = 0
    found: int = 0
    failed: int = 0
    running: tuple[str, ...] = ()
    retried: int = 0
    workers: Mapping[str, int] = field(default_factory=dict)
    seconds: float = 0.0
    left_s: float | None = None
    bytes_sent: int = 0
    told: tuple[str, ...] = ()
