"""What the parts of a plan are made of: frozen parts, vectors, bounds."""

import itertools
from functools import reduce
from math import inf
from typing import Annotated, Any, Literal, NamedTuple, Self, TypeVar, get_args

from annotated_types import Ge, Le
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from kobrel.errors import PartError
from kobrel.optics.units import exact_fps

Ease = Literal["even", "smooth"]
PullEase = Literal["even", "smooth", "fast", "late", "own"]
"""Even; gently on and off; fast and then settling; late; by handles of its own."""
MOST = 1e9
"""The largest number of a plan: a million kilometres, where it is a length."""
LEAST = 1e-9
"""The smallest number where nought makes no sense."""
MOST_FRAME = 1_000_000
MOST_FRAMES = 20_000
"""Frames that a shot has at most."""
Amount = Annotated[float, Field(ge=0, le=1)]
Distance = Annotated[float, Field(ge=LEAST)]
"""Metres, infinity too."""
Finite = Annotated[float, Field(ge=-MOST, le=MOST)]
PositiveFinite = Annotated[float, Field(ge=LEAST, le=MOST)]
Frame = Annotated[float, Field(ge=-MOST_FRAME, le=MOST_FRAME)]
Rate = Annotated[float, Field(ge=0.1, le=1000), AfterValidator(exact_fps)]
"""Frames a second; 23.976 and the like are taken as the ratios that are meant."""
FrameNumber = Annotated[int, Field(ge=-MOST_FRAME, le=MOST_FRAME)]
Stops = Annotated[float, Field(ge=-100, le=100)]
Strength = Annotated[float, Field(ge=0, le=1e6)]
FilePath = Annotated[str, Field(max_length=4096, pattern=r"^[^\x00]*$")]
Vector = tuple[Finite, Finite, Finite]
Colour = Vector
EaseHandles = Annotated[
    tuple[Amount, Finite, Amount, Finite],
    Field(description="Of an own ease: two points of a Bézier curve in its square."),
]


def require_rising(frames: list[float], what: str) -> None:
    """See that frames come one after the other.

    Raises
    ------
    ValueError
        Two are at one frame or in the wrong order; says which.
    """
    for before, after in itertools.pairwise(frames):
        if after <= before:
            raise ValueError(
                f"{what} at frames {before:g} and {after:g} are not in order, or at one frame twice"
            )


def require_unique(names: list[str], what: str) -> None:
    """See that no name is used twice.

    Raises
    ------
    ValueError
        One is; says which.
    """
    seen: set[str] = set()
    for name in names:
        if name in seen:
            raise ValueError(f"{what} {name} is used twice")
        seen.add(name)


def plain_reason(error: ValidationError) -> str:
    """The first fault that a check found: where it is and what is wrong."""
    first = error.errors()[0]
    place = " → ".join(str(part) for part in first["loc"])
    message = first["msg"].removeprefix("Value error, ")
    given = f" (given: {first['input']!r})" if isinstance(first["input"], str | int | float) else ""
    return f"{place}: {message}{given}." if place else f"{message}."


class Part(BaseModel):
    """Base of all parts of a plan."""

    # Each part is compiled when first used: a start needs few of them.
    model_config = ConfigDict(frozen=True, extra="allow", ser_json_inf_nan="strings", defer_build=True)

    def replace(self, **changes: Any) -> Self:
        """The same with some fields changed, checked anew. The others keep the very same values, so that
        what depends on them can be kept.

        Raises
        ------
        PartError
            A change breaks a rule of the part; says which.
        """
        try:
            made = type(self)(**{**{name: value for name, value in self}, **changes})  # noqa: C416, a part may have keys
        except ValidationError as error:
            raise PartError(plain_reason(error)) from None
        made.__dict__.update({name: value for name, value in self.__dict__.items() if name not in changes})
        return made


P = TypeVar("P", bound=Part)


class Described(NamedTuple):
    """What the schema says of a number: its bounds, infinite where it has none, and its description."""

    low: float
    high: float
    description: str


def value_at(part: Part, path: str) -> Any:
    """The value at a path of fields.

    >>> from kobrel.plan.model import Plan
    >>> value_at(Plan(), "light.shoulder")
    0.0
    """
    return reduce(getattr, path.split("."), part)


def with_value_at(part: P, path: str, value: object) -> P:
    """A part with another value at a path of fields, validated.

    Raises
    ------
    PartError
        The value breaks a rule; says which.
    """
    name, _, rest = path.partition(".")
    return part.replace(**{name: with_value_at(getattr(part, name), rest, value) if rest else value})


def described(kind: type[Part], path: str) -> Described:
    """What the schema of a kind of part says of the number at a path of fields.

    Raises
    ------
    KeyError
        There is no such field.
    """
    *inner, last = path.split(".")
    for name in inner:
        annotation = kind.model_fields[name].annotation
        kinds = [each for each in (annotation, *get_args(annotation)) if isinstance(each, type)]
        kind = next(each for each in kinds if issubclass(each, Part))
    field = kind.model_fields[last]
    low = max((float(rule.ge) for rule in field.metadata if isinstance(rule, Ge)), default=-inf)  # type: ignore[arg-type]
    high = min((float(rule.le) for rule in field.metadata if isinstance(rule, Le)), default=inf)  # type: ignore[arg-type]
    return Described(low, high, field.description or "")
