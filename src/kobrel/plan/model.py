"""The document. Every part is frozen; an edit makes a new plan.

Lengths are metres (lens and sensor: millimetres), times are frames. Fields that this
version does not know are kept and written back.
"""

import itertools
from typing import Annotated, ClassVar, Literal, Self, assert_never

from pydantic import Field, model_validator

from kobrel.optics.ease import PLAIN
from kobrel.optics.units import PlanUnit
from kobrel.plan.export import UpdatedFile
from kobrel.plan.instrument import Character, Exposure, Glass, KeepSize, Requirement, Ring
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import AtFrame, Level, Placed, Track
from kobrel.plan.look import Finish, Guides, Light
from kobrel.plan.parts import (
    MOST,
    MOST_FRAMES,
    Colour,
    Distance,
    Ease,
    EaseHandles,
    FilePath,
    Finite,
    Frame,
    FrameNumber,
    Part,
    PositiveFinite,
    PullEase,
    Rate,
    Stops,
    Vector,
    require_rising,
    require_unique,
)
from kobrel.plan.pictures.plates import MOST_PLATES, Dial, Plate, PlateAnchor
from kobrel.plan.pictures.rendered import RenderedImage

FORMAT, SUFFIX = 10, ".kobrel"
MOST_SHOTS, MOST_NUMBER = 2000, 1_000_000
Index = Annotated[int, Field(ge=0, le=2**31)]
STAND_IN_PREFIX = "stand-in "
"""How the names begin that stand-ins have among the scenes of a stage; no file's does."""

StandInKind = Literal[
    "standing", "seated", "child", "box", "ball", "cone", "cylinder", "card", "wall", "ground",
    "string", "scatter",
]  # fmt: skip


class SceneRef(Part):
    """A scene file. In memory the path is absolute, in the file relative to the plan.

    It is scaled, turned about the vertical, then moved to its place.
    """

    name: str = Field(min_length=1, description="Name that anchors and cameras use.")
    path: FilePath = Field(description="The scene file.")
    unit_m: PositiveFinite | None = Field(None, description="Metres in one unit, if not what the file says.")
    up: Literal["Y", "Z"] | None = Field(None, description="The axis that points up, if not what it says.")
    choices: tuple[tuple[str, str], ...] = Field(
        (), description="Variants, purposes or scenes of the file that are shown instead of its own."
    )
    position_m: Vector = (0.0, 0.0, 0.0)
    turn_deg: Finite = Field(0.0, description="About the vertical, counter-clockwise from above.")
    scale: PositiveFinite = 1.0
    hidden: tuple[str, ...] = Field((), description="Paths of nodes that are not drawn.")
    finished: RenderedImage | None = Field(
        None, description="Of a rendered image with depth: its files, and how the depth counts."
    )


class SurfaceAnchor(Part):
    """A point picked on a surface; it rides on its node, and where that deforms on its triangle."""

    kind: Literal["surface"] = "surface"
    scene: str
    node: str = Field(description="Path of the node in the scene.")
    local: Vector = Field(description="The point in the node's own space and unit, when it was picked.")
    vertices: tuple[Index, Index, Index] | None = Field(
        None, description="Corners of the triangle that it rides on, where the mesh deforms."
    )
    weights: Vector | None = Field(None, description="How much of each corner the point is.")


class BoundsAnchor(Part):
    """The middle of a node's bounds, with all that lies below it."""

    kind: Literal["bounds"] = "bounds"
    scene: str
    node: str = Field(description="Path of the node in the scene.")


class OriginAnchor(Part):
    """The origin of a node's own space."""

    kind: Literal["origin"] = "origin"
    scene: str
    node: str = Field(description="Path of the node in the scene.")


class NearestAnchor(Part):
    """The point of a node, with all that lies below it, nearest to the shot's camera."""

    kind: Literal["nearest"] = "nearest"
    scene: str
    node: str = Field(description="Path of the node in the scene.")


class PointAnchor(Placed):
    """A point in space; it stands still or follows its keys."""

    kind: Literal["point"] = "point"


class StandInAnchor(Part):
    """A stand-in: a person's eyes, the middle of anything else."""

    kind: Literal["stand-in"] = "stand-in"
    number: int


NodeAnchor = SurfaceAnchor | BoundsAnchor | OriginAnchor | NearestAnchor
AnchorKind = Literal["surface", "bounds", "origin", "nearest", "point", "stand-in", "plate"]
Anchor = Annotated[NodeAnchor | PointAnchor | StandInAnchor | PlateAnchor, Field(discriminator="kind")]


class Subject(Part):
    """Something that shall be sharp or soft."""

    number: int = Field(ge=1, le=MOST_NUMBER)
    name: str = Field(min_length=1)
    anchor: Anchor
    half_depth_m: float = Field(
        0.0, ge=0, le=MOST, description="Sharp means from so far before it to so far behind it."
    )


class CameraEnd(Part):
    """An end of a tape at the lens."""

    kind: Literal["camera"] = "camera"


class SubjectEnd(Part):
    """An end of a tape on a subject."""

    kind: Literal["subject"] = "subject"
    number: int


End = Annotated[
    CameraEnd | SubjectEnd | NodeAnchor | PointAnchor | StandInAnchor | PlateAnchor,
    Field(discriminator="kind"),
]


class Tape(Part):
    """A distance that is measured between two ends."""

    name: str = Field(min_length=1)
    start: End = Field(default_factory=CameraEnd)
    end: End


class Reading(Part):
    """A straight distance from the lens as a meter or a person gave it."""

    name: str = Field(min_length=1)
    distance_m: PositiveFinite
    spread_m: float = Field(0.0, ge=0, le=MOST, description="Standard deviation of the readings.")
    count: int = Field(1, ge=1, le=1_000_000, description="How many readings it is the mean of.")
    point_m: Vector | None = Field(None, description="Where the meter was aimed, if that is known.")


class Row(Part):
    """Copies in a line, the first at the stand-in's place."""

    count: int = Field(5, ge=2, le=200)
    spacing_m: PositiveFinite = 1.0
    direction_deg: Finite = Field(180.0, description="Counter-clockwise from +Z, seen from above.")


class Lights(Part):
    """Small lights in a string or a scatter; the same number gives the same lights."""

    count: int = Field(24, ge=1, le=2000)
    size_m: PositiveFinite = 0.03
    brightness: float = Field(12.0, ge=0, le=MOST)
    colour: Colour = (1.0, 0.72, 0.42)
    spread: float = Field(0.25, ge=0, le=1, description="How much the colours differ.")
    number: int = Field(1, ge=0, le=2**31, description="What the random places and colours grow from.")


class StandIn(Placed):
    """Something simple in place of what is not modelled yet; its place is the middle of its foot."""

    number: int = Field(ge=1, le=MOST_NUMBER)
    name: str = Field(min_length=1)
    kind: StandInKind
    size_m: tuple[PositiveFinite, PositiveFinite, PositiveFinite] = Field(
        description="Width, height and depth."
    )
    turn_deg: Finite = Field(0.0, description="About the vertical, counter-clockwise from above.")
    colour: Colour = (0.3, 0.3, 0.29)
    row: Row | None = None
    lights: Lights | None = Field(None, description="Of a string or scatter.")
    opacity: Level = Field(Level(value=1.0), description="0 is gone, 1 is whole.")

    @property
    def is_person(self) -> bool:
        """Whether it stands for a person."""
        return self.kind in ("standing", "seated", "child")


class SubjectTarget(Part):
    """Focus on a subject, wherever it is at each frame."""

    kind: Literal["subject"] = "subject"
    number: int


class DistanceTarget(Part):
    """Focus at a distance."""

    kind: Literal["distance"] = "distance"
    metres: Distance


class PointTarget(Placed):
    """Focus on a point in space that no subject stands at; it stands still or follows its keys."""

    kind: Literal["point"] = "point"


Target = Annotated[SubjectTarget | PointTarget | DistanceTarget, Field(discriminator="kind")]


class Cue(Part):
    """A frame or a range of frames that has a name: what is done or said there."""

    name: str = Field(min_length=1)
    first: FrameNumber
    last: FrameNumber | None = Field(None, description="Last frame of a range; none is a single frame.")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.last is not None and self.last < self.first:
            raise ValueError(f"cue {self.name} ends at frame {self.last}, before its start at {self.first}")
        return self

    @property
    def end(self) -> int:
        """Its last frame."""
        return self.first if self.last is None else self.last


class Search(Part):
    """How a pull overshoots and settles, or hunts, once it has arrived at its mark."""

    amount: PositiveFinite = Field(0.15, description="Of the first swing.")
    unit: Literal["part", "dioptres"] = Field("part", description="Part of the pull, or dioptres.")
    swings: float = Field(1.5, ge=0.5, le=12, description="Whole swings, there and back.")
    decay: float = Field(3.0, ge=0, le=12, description="How fast they die away; 0 evenly.")
    frames: PositiveFinite = Field(24.0, description="How long it goes on.")


class Mark(AtFrame):
    """Where the focus is at a frame, and how it goes on from there to the next mark.

    The pull is held until `until`; then it goes on by `ease`, in dioptres or in metres, and may
    search when it has arrived.
    """

    target: Target
    ease: PullEase = "smooth"
    handles: EaseHandles = PLAIN
    until: Frame | None = Field(None, description="Frame until which it holds; its own if none.")
    by: Literal["dioptres", "metres"] = "dioptres"
    search: Search | None = None

    @property
    def leaves(self) -> float:
        """The frame at which the focus leaves it."""
        return self.frame if self.until is None else max(self.until, self.frame)


class FileCamera(Part):
    """A camera of a scene file: its place and movement."""

    kind: Literal["file"] = "file"
    scene: str
    path: str


class FixedCamera(Part):
    """A camera that stands still. Rows of its 4 x 4 pose, metres, looking along -Z."""

    kind: Literal["fixed"] = "fixed"
    pose: tuple[Finite, ...] = Field(min_length=16, max_length=16)


class CameraKey(AtFrame):
    """Place, aim and roll of a camera at a frame; `ease` is the way to the next key."""

    position_m: Vector
    aim_m: Vector
    roll_deg: Finite = 0.0
    ease: Ease = "smooth"


class MadeCamera(Track[CameraKey]):
    """A camera made here: it stands at a place and looks at an aim."""

    over_time: ClassVar[tuple[str, ...]] = ("position_m", "aim_m", "roll_deg")
    kind: Literal["made"] = "made"
    position_m: Vector
    aim_m: Vector
    roll_deg: Finite = Field(0.0, description="Clockwise as the camera turns.")
    keys: tuple[CameraKey, ...] = ()
    path: Literal["straight", "arc"] = Field(
        "straight", description="Between keys: straight, or about the aim."
    )
    aims_at: int | None = Field(None, description="Subject that it keeps looking at, instead of its aim.")
    near_clip_m: float = Field(0.01, ge=0, le=MOST)

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        places = [(self.position_m, self.aim_m), *((key.position_m, key.aim_m) for key in self.keys)]
        for position, aim in places:
            if position == aim:
                raise ValueError("the aim must differ from the camera position")
        return self


CameraRef = Annotated[FileCamera | FixedCamera | MadeCamera, Field(discriminator="kind")]


ALT_FIELDS = ("glass", "iris", "flaws", "exposure", "ahead_m", "keeps", "marks")
"""What of a shot an alt keeps."""


class Alt(Part):
    """A saved alternative of a shot's settings."""

    name: str = Field(min_length=1)
    glass: Glass
    iris: IrisShape
    flaws: Character
    exposure: Exposure
    ahead_m: Finite = 0.0
    keeps: KeepSize | None = None
    marks: tuple[Mark, ...] = Field(min_length=1)


class Shot(Part):
    """One shot: a camera, a lens, and focus over its frames."""

    name: str = Field(min_length=1, description="Short name, often a number.")
    title: str = ""
    first: FrameNumber = 1001
    last: FrameNumber = 1096
    fps: Rate = 24.0
    handles: int = Field(0, ge=0, le=10_000, description="Frames before and after, kept for the cut.")
    camera: CameraRef
    glass: Glass = Field(default_factory=Glass)
    iris: IrisShape = Field(default_factory=IrisShape)
    most_px: PositiveFinite | None = Field(None, description="The largest disc that the renderer draws.")
    finished: str = Field("", description="Scene that is a rendered image, blurred in Picture; or none.")
    flaws: Character = Field(default_factory=Character)
    width_px: int = Field(1920, ge=16, le=32768, description="Delivery width in pixels.")
    exposure: Exposure = Field(default_factory=Exposure)
    ahead_m: Finite = Field(0.0, description="How far the camera is moved ahead along its axis.")
    keeps: KeepSize | None = None
    brief: tuple[Requirement, ...] = ()
    ring: Ring = Field(default_factory=Ring)
    alts: tuple[Alt, ...] = ()
    cues: tuple[Cue, ...] = ()
    marks: tuple[Mark, ...] = Field(
        default_factory=lambda: (Mark(frame=1001, target=DistanceTarget(metres=3.0)),)
    )

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        if self.last < self.first:
            raise ValueError(f"last frame {self.last} comes before first frame {self.first}")
        if self.last - self.first >= MOST_FRAMES:
            raise ValueError(f"a shot has {MOST_FRAMES} frames at most; {self.first} to {self.last} are more")
        if not self.marks:
            raise ValueError("a shot needs at least one mark, it says where the focus is")
        require_rising([mark.frame for mark in self.marks], "marks")
        require_unique([alt.name for alt in self.alts], "Alt")
        for mark, after in itertools.pairwise(self.marks):
            if mark.leaves >= after.frame:
                raise ValueError(
                    f"the mark at frame {mark.frame:g} holds until {mark.leaves:g}, past the next "
                    f"at {after.frame:g}"
                )
        return self

    @property
    def label(self) -> str:
        """Name and title as shown."""
        return f"{self.name} {self.title}".strip()

    @property
    def length(self) -> int:
        """Frames in the cut, without handles."""
        return self.last - self.first + 1


class Proof(Part):
    """A picture that was kept, with the settings of its shot that made it."""

    name: str = Field(min_length=1)
    path: FilePath = Field(description="OpenEXR in linear light. In the file it is relative to the plan.")
    shot: str = Field(description="Name of its shot.")
    frame: Frame
    kept: Alt = Field(description="The shot's settings as they were.")
    focal_mm: PositiveFinite = Field(description="At its frame, as stop and focus.")
    f_number: PositiveFinite
    focus_m: Distance
    width_px: int = Field(ge=1, le=65_536)
    height_px: int = Field(ge=1, le=65_536)
    passes: int = Field(1, ge=0, le=1_000_000)
    shown_ev: Stops = Field(0.0, description="How much brighter than recorded it is shown, in stops.")
    shoulder: float = Field(0.0, ge=0, le=1)
    rating: int = Field(0, ge=0, le=5, description="How well it is liked; 0 is not rated.")


class Plan(Part):
    """The whole document."""

    format: int = FORMAT
    name: str = "Untitled"
    unit: PlanUnit = Field("m", description="Unit for showing lengths; the plan itself is in metres.")
    scenes: tuple[SceneRef, ...] = Field((), max_length=1000)
    subjects: tuple[Subject, ...] = Field((), max_length=2000)
    shots: tuple[Shot, ...] = Field((), max_length=MOST_SHOTS)
    stand_ins: tuple[StandIn, ...] = Field((), max_length=2000)
    plates: tuple[Plate, ...] = Field((), max_length=MOST_PLATES)
    dials: tuple[Dial, ...] = Field((), max_length=MOST_PLATES)
    tapes: tuple[Tape, ...] = Field((), max_length=2000)
    readings: tuple[Reading, ...] = Field((), max_length=100_000)
    proofs: tuple[Proof, ...] = Field((), max_length=5000)
    handed: tuple[UpdatedFile, ...] = Field((), max_length=100, description="Files that are kept up to date.")
    light: Light = Field(default_factory=Light)
    guides: Guides = Field(default_factory=Guides)
    finish: Finish = Field(default_factory=Finish)

    @model_validator(mode="after")
    def _names_are_unique(self) -> Self:
        require_unique([scene.name for scene in self.scenes], "scene name")
        require_unique([str(subject.number) for subject in self.subjects], "subject number")
        require_unique([str(stand_in.number) for stand_in in self.stand_ins], "stand-in number")
        require_unique([str(plate.number) for plate in self.plates], "plate number")
        require_unique([dial.name for dial in self.dials], "dial name")
        require_unique([tape.name for tape in self.tapes], "tape name")
        require_unique([shot.name for shot in self.shots], "shot name")
        require_unique([proof.name for proof in self.proofs], "proof name")
        return self

    def subject(self, number: int) -> Subject | None:
        """A subject by its number."""
        return next((subject for subject in self.subjects if subject.number == number), None)

    def name_of(self, target: Target) -> str | None:
        """What a mark is on, by its name; None for a plain distance."""
        match target:
            case SubjectTarget():
                subject = self.subject(target.number)
                return subject.name if subject else f"missing subject {target.number}"
            case PointTarget():
                return "a free point"
            case DistanceTarget():
                return None
            case _:
                assert_never(target)

    def finished_of(self, shot: Shot) -> RenderedImage | None:
        """The rendered image that a shot is blurred on, if any."""
        return next((s.finished for s in self.scenes if s.name == shot.finished and s.finished), None)

    def proof(self, name: str) -> Proof | None:
        """A proof by its name."""
        return next((proof for proof in self.proofs if proof.name == name), None)

    def stand_in(self, number: int) -> StandIn | None:
        """A stand-in by its number."""
        return next((stand_in for stand_in in self.stand_ins if stand_in.number == number), None)

    def plate(self, number: int | None) -> Plate | None:
        """A plate by its number."""
        return next((plate for plate in self.plates if plate.number == number), None)
