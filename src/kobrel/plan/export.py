"""Files that a plan is exported as, written anew whenever it is saved."""

from typing import Literal

from pydantic import Field

from kobrel.optics.units import PlanUnit
from kobrel.plan.parts import FilePath, Part

ExportKind = Literal[
    "usd", "usd-changes", "gltf", "alembic", "csv", "json", "plates", "otio", "edl", "sheet", "html"
]  # fmt: skip

Pass = Literal["depth", "straight", "depth01", "inverse01", "blur", "focus", "mattes"]
PASSES: dict[Pass, str] = {
    "depth": "Depth (camera-space Z)", "straight": "Distance (radial)", "depth01": "Depth, 0 to 1",
    "inverse01": "Inverse depth", "blur": "Blur, signed", "focus": "Focus mask",
    "mattes": "Subject mattes",
}  # fmt: skip
"""Passes for finishing elsewhere, and how they are called."""


class UpdatedFile(Part):
    """A file that the plan keeps up to date."""

    kind: ExportKind
    path: FilePath = Field(description="In the plan's file it is relative to it.")
    shots: tuple[str, ...] = Field(
        (), max_length=2000, description="Names of its shots, one of cameras and frames; none is all of them."
    )
    unit: PlanUnit | None = Field(None, description="Of lengths; the plan's if none.")
    terms: tuple[str, ...] = Field((), max_length=50, description="Renderers' conventions, of CSV and JSON.")
    page: Literal["A4", "Letter"] = Field("A4", description="Of a sheet.")
