"""Flags in a row that never cover one another."""

from collections.abc import Sequence


def spread(wanted: Sequence[float], widths: Sequence[float], left: float, right: float) -> list[float]:
    """Middles of boxes in a row, as near as can be to where they are wanted.

    Least squares by pooling neighbours that would overlap; `wanted` rises. Boxes that have no
    room between left and right reach beyond the right.

    >>> spread([10, 12], [20, 20], 0, 100)
    [10.0, 30.0]
    """
    offsets, at = [], 0.0
    for before, width in zip([0.0, *widths][: len(widths)], widths, strict=True):
        at += (before + width) / 2
        offsets.append(at)
    groups: list[tuple[float, int]] = []  # mean of wanted place less offset, how many
    for place, offset in zip(wanted, offsets, strict=True):
        mean, count = place - offset, 1
        while groups and groups[-1][0] >= mean:
            other, more = groups.pop()
            mean, count = (mean * count + other * more) / (count + more), count + more
        groups.append((mean, count))
    most = right - sum(widths)
    starts = [max(min(mean, most), left) for mean, count in groups for _ in range(count)]
    return [start + offset for start, offset in zip(starts, offsets, strict=True)]
