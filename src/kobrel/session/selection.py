"""What is chosen, and the tool in hand."""

from typing import NamedTuple

from kobrel.session.evented import AnyField, Change, Field, Room
from kobrel.session.tools import CutMode, DialEnd, Gaps, Tool
from kobrel.stage.stage import Place


class ChosenStandIn(NamedTuple):
    """A stand-in, by its number."""

    number: int


class ChosenPlates(NamedTuple):
    """A plate, by its number, and others that are chosen besides."""

    number: int
    besides: frozenset[int] = frozenset()


class ChosenTape(NamedTuple):
    """A tape, by its name."""

    name: str


class ChosenNode(NamedTuple):
    """A part of a scene."""

    place: Place


Chosen = ChosenStandIn | ChosenPlates | ChosenTape | ChosenNode


class Selection(Room):
    """What is chosen: one thing on the stage, and in lists of their own a subject, marks, a dial and proofs.

    Fields
    ------
    item : the thing on the stage
    subject : number of a subject
    marks : frames of marks, the first chosen one first
    dial : name of a dial
    dial_start : the low end of a dial that is being made
    proofs : names of proofs, the first chosen one first
    tool : what the next clicks do
    cut_mode : what becomes of a shape that is drawn
    keeps_framing : whether a plate grows as it goes farther, so that it looks the same
    keeps_gaps : whether, and by what, the other chosen plates keep their gaps when one is moved
    """

    item: Field[Chosen | None] = Field(None)
    subject: Field[int | None] = Field(None)
    marks: Field[tuple[float, ...]] = Field(())
    dial: Field[str | None] = Field(None)
    dial_start: Field[DialEnd | None] = Field(None)
    proofs: Field[tuple[str, ...]] = Field(())
    tool: Field[Tool | None] = Field(None)
    cut_mode: Field[CutMode] = Field("lift")
    keeps_framing = Field(True)
    keeps_gaps: Field[Gaps] = Field("")

    @property
    def stand_in(self) -> int | None:
        """Number of the chosen stand-in."""
        return self.item.number if isinstance(self.item, ChosenStandIn) else None

    @property
    def plate(self) -> int | None:
        """Number of the chosen plate, of several the last one."""
        return self.item.number if isinstance(self.item, ChosenPlates) else None

    @property
    def plates(self) -> frozenset[int]:
        """Numbers of all chosen plates."""
        return self.item.besides | {self.item.number} if isinstance(self.item, ChosenPlates) else frozenset()

    @property
    def tape(self) -> str | None:
        """Name of the chosen tape."""
        return self.item.name if isinstance(self.item, ChosenTape) else None

    @property
    def node(self) -> Place | None:
        """The chosen part of a scene."""
        return self.item.place if isinstance(self.item, ChosenNode) else None

    @property
    def mark(self) -> float | None:
        """Frame of the mark that was chosen first."""
        return self.marks[0] if self.marks else None

    def toggle_mark(self, frame: float) -> None:
        """Choose a mark besides the first one, or leave it out again."""
        if frame in self.marks[1:]:
            self.marks = tuple(each for each in self.marks if each != frame)
        elif frame not in self.marks:
            self.marks = (*self.marks, frame)


OF_A_PLAN: tuple[AnyField, ...] = (
    Selection.item,
    Selection.subject,
    Selection.marks,
    Selection.dial,
    Selection.dial_start,
    Selection.proofs,
    Selection.tool,
)
"""What is selected of one plan, and means nothing in another."""


def nothing_chosen() -> list[Change]:
    """The changes after which nothing of a plan is chosen."""
    return [field.to(field.start) for field in OF_A_PLAN]
