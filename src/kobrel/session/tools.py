"""Tools: what a click means; and what stands in the chart's room."""

from dataclasses import dataclass
from typing import Literal, NamedTuple

from kobrel.plan.instrument import RequirementKind
from kobrel.plan.model import End, Plan, StandInKind

Below = Literal["", "maps", "discs", "mask", "strip", "depths"]
"""What stands in the chart's room: the chart, maps of trade-offs, discs of blur, the mask, the strip across
shots, or the map of depth of field."""
Seen = Literal["", "wall"]
"""What stands in Picture's room: Picture, or the wall of proofs."""
WallSource = Literal["wall", "ladder"]
"""What hangs on the wall: the plan's proofs, or the steps of the last bracket."""
WallMode = Literal["all", "side", "wipe", "blink", "stops", "blur"]
"""How proofs are seen: all, or the selected ones side by side, with a line to wipe, in turn, or by what two
differ in: stops, or pixels of blur."""
Gaps = Literal["", "metres", "ratio", "dioptres"]
"""By what plates keep their gaps, if they do."""
Wanted = Literal["play", "movie", "shot", "files", "arrival", "keep", "sheet", "title"]
"""What is asked of the window: to play or pause, to write a movie, to show the shot's name and frames
for changing, to read files that the plan names, to keep the picture in hand, to write a contact sheet, or
to type the selected title in Picture."""


CutTool = Literal["points", "freehand", "rectangle", "ellipse", "edge", "colour"]
"""What draws the shape of a cut."""
CutMode = Literal["lift", "add", "take away"]
"""What becomes of a drawn shape: a plate of its own, or part of the selected plate's cut."""


class DialEnd(NamedTuple):
    """All that a dial may drive, at one of its ends: the plan at a frame, and the lens's focus in metres, its
    f-number and its focal length in millimetres.
    """

    plan: Plan
    frame: float
    lens: tuple[float, float, float]


@dataclass(frozen=True)
class Tool:
    """What the next clicks do: place a stand-in of a kind, make a tape from its first end on, copy what
    the probe reads, aim a meter, paint a requirement (or none) over a subject's line, measure a rendered
    image between two places, each 0 to 1 of its width and height, or draw what is cut out of a plate.
    """

    does: Literal["place", "tape", "probe", "aim", "wish", "measure", "cut", "foot"]
    stand_in: StandInKind | None = None
    start: End | None = None
    requirement: RequirementKind | None = None
    px: float = 8.0
    place: tuple[float, float] | None = None
    cut: CutTool | None = None


PLACING_TABS = (1, 8)
"""Tabs on which a click in a view selects what can be placed, and plates are dragged: Block and Plates."""
