"""A piece of work: pictures, a movie, passes, layers, a ladder or a contact sheet; as JSON, too."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from kobrel.errors import ExchangeError
from kobrel.exchange.movie import CODERS, MOST_WRITTEN
from kobrel.exchange.render import MOST_PX, PICTURES
from kobrel.files import json_of
from kobrel.optics.units import PlanUnit
from kobrel.picture.burn import BURNS
from kobrel.plan.export import PASSES, Pass
from kobrel.plan.model import Proof, Shot
from kobrel.plan.parts import FilePath, Frame, FrameNumber, plain_reason
from kobrel.plan.variants.bracket import MOST_RUNGS

WorkKind = Literal["pictures", "movie", "passes", "layers", "ladder", "sheet"]
KINDS: dict[WorkKind, str] = {
    "pictures": "Pictures", "movie": "Movie", "passes": "Passes", "layers": "Layers", "ladder": "Ladder",
    "sheet": "Contact sheet",
}  # fmt: skip
"""What can be made, and how it is called."""
ENDINGS: dict[WorkKind, tuple[str, ...]] = {
    "pictures": PICTURES, "movie": tuple(CODERS), "passes": (".exr",), "layers": (".ora", ".exr", ".png"),
    "ladder": ("",), "sheet": (".pdf", ".png"),
}  # fmt: skip
"""Endings of what is written; a bracket is a folder."""
Pixels = Annotated[int, Field(ge=2, le=MOST_PX)]
MOST_JOBS = 10_000


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", ser_json_inf_nan="strings")


class RungOf(_Frozen):
    """A rung of a ladder: a way of a shot at a frame."""

    name: str = Field(min_length=1, max_length=200)
    shot: Shot
    frame: Frame


class SheetOf(_Frozen):
    """What a contact sheet is like."""

    title: str = ""
    page: Literal["A4", "A3", "Letter"] = "A4"
    wide: bool = True
    columns: int = Field(3, ge=1, le=12)
    captions: bool = True


class Work(_Frozen):
    """What is to be made of a plan."""

    kind: WorkKind
    plan: FilePath = Field(description="Path of the plan.")
    output: FilePath = Field(
        description="File to write; pictures become NAME.FRAME.ENDING. Of a bracket, a folder."
    )
    shot: str = Field("", description="Name of the shot; the first by default.")
    first: FrameNumber | None = Field(None, description="First frame; the shot's by default.")
    last: FrameNumber | None = Field(None, description="Last frame; the shot's by default.")
    width: Pixels | None = Field(None, description="Pixels; as delivered by default.")
    height: Pixels | None = Field(None, description="Pixels; by the shot's frame by default.")
    samples: int = Field(64, ge=1, le=65536, description="Lens samples a pixel.")
    bands: int = Field(1, ge=1, le=16, description="In how many parts the samples of a frame are shared out.")
    burn: tuple[str, ...] = Field((), description="Of pictures and movies: frame, focus, stop, states.")
    sound: bool = Field(False, description="Of movies: whether the focus motor is heard.")
    clay: bool = Field(False, description="Whether all surfaces are drawn in one grey.")
    denoise: bool = Field(
        False, description="Of pictures and movies: whether noise is removed from what is traced."
    )
    grow_stops: float = Field(
        0.0, ge=0, le=20, description="Of rendered images: stops added to clipped highlights."
    )
    passes: tuple[Pass, ...] = Field(tuple(PASSES), description="Which passes are written.")
    unit: PlanUnit | None = Field(None, description="Of depth and of captions; the plan's by default.")
    rungs: tuple[RungOf, ...] = Field((), max_length=MOST_RUNGS, description="Of a bracket.")
    proofs: tuple[Proof, ...] = Field((), max_length=1000, description="Of a contact sheet.")
    sheet: SheetOf = Field(default_factory=SheetOf, description="Of a contact sheet.")

    if not TYPE_CHECKING:  # type checkers see the fields

        def __init__(self, **fields: object) -> None:
            """Raises ExchangeError where the fields make no sense; says which."""
            try:
                super().__init__(**fields)
            except ValidationError as error:
                raise ExchangeError(plain_reason(error)) from None

    @model_validator(mode="after")
    def _fits(self) -> Self:
        ending = Path(self.output).suffix.lower()
        if self.kind != "ladder" and ending not in ENDINGS[self.kind]:
            raise ValueError(
                f"{KINDS[self.kind].lower()} cannot be written as “{Path(self.output).name}”; "
                f"its name ends in {' or '.join(ENDINGS[self.kind])}"
            )
        unknown = set(self.burn) - set(BURNS)
        if unknown:
            raise ValueError(f"“{min(unknown)}” cannot be burnt in; {', '.join(BURNS)} can")
        if self.first is not None and self.last is not None:
            if self.last < self.first:
                raise ValueError(f"the last frame, {self.last}, comes before the first, {self.first}")
            if self.last - self.first >= MOST_WRITTEN:
                raise ValueError(f"{self.first} to {self.last} are more than {MOST_WRITTEN} frames")
        wanted = {"ladder": self.rungs, "sheet": self.proofs}.get(self.kind, True)
        if not wanted:
            raise ValueError(f"no frames selected for a {KINDS[self.kind].lower()}")
        if self.denoise and self.kind not in ("pictures", "movie"):
            raise ValueError(f"{KINDS[self.kind].lower()} cannot be denoised; pictures and movies can")
        if not self.passes:
            raise ValueError("no passes are wanted")
        return self

    def replace(self, **changes: object) -> Self:
        """The same with some fields changed, checked again.

        Raises
        ------
        ExchangeError
            They make no sense; says which.
        """
        return type(self)(**{**dict(self), **changes})  # type: ignore[arg-type]

    @property
    def target(self) -> Path:
        """What is written."""
        return Path(self.output)

    @property
    def folder(self) -> Path:
        """Where files are written."""
        return self.target if self.kind == "ladder" else self.target.absolute().parent

    @property
    def title(self) -> str:
        """What it is, for a person."""
        of = f", shot {self.shot}" if self.shot and self.kind not in ("ladder", "sheet") else ""
        return f"{KINDS[self.kind]}{of}"


def work_of(**fields: object) -> Work:
    """A piece of work from its fields.

    Raises
    ------
    ExchangeError
        It makes no sense; says where.
    """
    return Work(**fields)  # type: ignore[arg-type]


def read_works(path: Path) -> list[Work]:
    """The pieces of work that a JSON file lists: an object for each in an array, or that under ``jobs``.
    Relative paths start from the file's folder.

    Raises
    ------
    KobrelError
        It is no such file; says where.
    """
    found, folder = json_of(path, ExchangeError), path.absolute().parent
    listed = found.get("jobs") if isinstance(found, dict) else found
    if not isinstance(listed, list) or not listed:
        raise ExchangeError(
            "it lists no jobs.", file=path, remedy="Write an array of them, see docs/farm.md."
        )
    if len(listed) > MOST_JOBS:
        raise ExchangeError(f"it lists more than {MOST_JOBS} jobs.", file=path)
    works = []
    for number, each in enumerate(listed, 1):
        try:
            work = Work.model_validate(each)
        except ExchangeError as error:
            raise ExchangeError(error.what, file=path, place=f"job {number}") from None
        except ValidationError as error:
            raise ExchangeError(plain_reason(error), file=path, place=f"job {number}") from None
        works.append(work.replace(plan=str(folder / work.plan), output=str(folder / work.output)))
    return works
