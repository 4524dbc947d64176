"""What the values of a depth picture mean: metres along the axis."""

from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

DepthKind = Literal["distance", "inverse", "even", "dioptres"]
NOTHING_FROM = 1e9
"""Distances from which on there is nothing, in whichever unit."""


class Rule(Protocol):
    """How depth counts; see :class:`kobrel.plan.pictures.rendered.DepthRule`."""

    @property
    def kind(self) -> DepthKind:
        """Distances, their inverse, or 0 to 1."""

    @property
    def straight(self) -> bool:
        """Straight from the lens, instead of along its axis."""

    @property
    def unit_m(self) -> float:
        """Metres in a unit."""

    @property
    def negative(self) -> bool:
        """Distances are below 0."""

    @property
    def near_m(self) -> float:
        """Distance at one end of 0 to 1."""

    @property
    def far_m(self) -> float:
        """Distance at the other end."""

    @property
    def flipped(self) -> bool:
        """1 is near."""

    @property
    def zero_is_nothing(self) -> bool:
        """Where the value is 0 nothing stands."""


class Source(Protocol):
    """Which files; see :class:`kobrel.plan.pictures.rendered.Finished`."""

    @property
    def path(self) -> str:
        """The picture."""

    @property
    def depth_path(self) -> str | None:
        """The depth, where it lies apart."""

    @property
    def layer(self) -> str:
        """Layer of the picture."""

    @property
    def depth_channel(self) -> str:
        """Channel of the depth."""

    @property
    def sequence(self) -> bool:
        """Whether the number in its name counts frames."""

    @property
    def half_width(self) -> float:
        """Half the width of what it shows at one metre."""

    @property
    def rule(self) -> Rule:
        """How its depth counts."""


def metres(
    values: NDArray[np.float32], rule: Rule, tangents: tuple[NDArray[np.float64], NDArray[np.float64]]
) -> NDArray[np.float32]:
    """Distances along the axis, (H, W) metres, infinite where nothing stands, of what a depth picture has.

    Parameters
    ----------
    values : (H, W)
    tangents : of each column and each row of the picture, (W,) and (H,)
    """
    v = -values if rule.negative else values
    with np.errstate(divide="ignore", invalid="ignore"):
        if rule.kind == "distance":
            found = np.where(v < NOTHING_FROM, v * rule.unit_m, np.inf)
        elif rule.kind == "inverse":
            found = rule.unit_m / np.maximum(v, 0.0)
        else:
            part = np.clip(v, 0.0, 1.0)
            part = 1.0 - part if rule.flipped else part
            near, far = sorted((rule.near_m, rule.far_m))
            even = near + part * (far - near)
            found = even if rule.kind == "even" else 1.0 / (1.0 / near + part * (1.0 / far - 1.0 / near))
    nothing = ~np.isfinite(v) | (found <= 0.0)
    if rule.zero_is_nothing:
        nothing |= values == 0.0
    found = np.where(nothing, np.inf, found)
    if rule.straight:
        x, y = tangents
        found = found / np.sqrt(1.0 + x[None, :] ** 2 + y[:, None] ** 2)
    return found.astype(np.float32)
