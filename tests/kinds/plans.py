"""A plan of every kind: of what a subject is tied to, and of what stands before the camera."""

from collections.abc import Callable
from pathlib import Path
from typing import get_args

import imath  # noqa: F401  Alembic's values must be known first
import trimesh
from alembic3d.Abc import OArchive
from alembic3d.AbcGeom import OPolyMesh
from pxr import Sdf, UsdUtils

from kobrel.plan.model import (
    Anchor,
    AnchorKind,
    BoundsAnchor,
    NearestAnchor,
    OriginAnchor,
    Plan,
    PointAnchor,
    SceneRef,
    StandInAnchor,
    Subject,
    SurfaceAnchor,
)
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.staging import Library, stage_of
from kobrel.plan.start import empty_plan
from kobrel.session.commands import blocking
from kobrel.session.commands.plates import drawing, placing
from kobrel.session.open_file import open_file
from kobrel.session.session import Session
from kobrel.stage.scene import SCENE_SUFFIXES, no_progress
from kobrel.stage.stage import Stage
from tests.exchange.test_finished import frame_file
from tests.plates.flat import picture
from tests.stage.test_alembic import SQUARE, polygon

BOX = '#usda 1.0\n(\nmetersPerUnit = 1\nupAxis = "Y"\n)\ndef Cube "Box" {\ndouble size = 1\n}\n'


def scene_file(folder: Path, suffix: str) -> Path:
    """A scene of a format, with one thing in it."""
    path = folder / f"thing{suffix}"
    if suffix in (".usda", ".usd", ".usdc"):
        layer = Sdf.Layer.CreateAnonymous()
        layer.ImportFromString(BOX)
        layer.Export(str(path))
    elif suffix == ".usdz":
        inner = folder / "inner.usda"
        inner.write_text(BOX)
        UsdUtils.CreateNewUsdzPackage(str(inner), str(path))
    elif suffix == ".abc":
        archive = OArchive(str(path))
        OPolyMesh(archive.getTop(), "body").getSchema().set(polygon(SQUARE))
        del archive
    else:
        trimesh.creation.box().export(path)
    return path


def staged(plan: Plan) -> tuple[Plan, Stage, Library]:
    library = Library()
    library.read(plan, no_progress)
    return plan, stage_of(plan, library), library


def of_scene(path: Path) -> tuple[Plan, Stage, Library]:
    opened = open_file(path, no_progress)
    return opened.plan, opened.stage, opened.library


def with_stand_in(plan: Plan) -> Plan:
    session = Session()
    session.show_plan(*staged(plan))
    blocking.place_ahead(session, "standing")
    return session.plan


def with_plate(plan: Plan, folder: Path) -> Plan:
    session = Session()
    session.show_plan(*staged(plan))
    placing.add_files(session, [picture(folder / "sheet.png")])
    return session.plan


def with_drawn(plan: Plan) -> Plan:
    """One of each plate that needs no file."""
    session = Session()
    session.show_plan(*staged(plan))
    for drawn in drawing.KINDS:
        drawing.add(session, drawn)
    return session.plan


def changed_glass(plan: Plan, **glass) -> Plan:
    shots = tuple(shot.replace(glass=shot.glass.replace(**glass)) for shot in plan.shots)
    return plan.replace(shots=shots)


def standings(folder: Path) -> dict[str, Callable[[], tuple[Plan, Stage, Library]]]:
    """Every kind of what stands before the camera."""
    made = {
        f"scene {suffix}": lambda suffix=suffix: of_scene(scene_file(folder, suffix))
        for suffix in SCENE_SUFFIXES
    }
    return made | {
        "nothing": lambda: staged(Plan()),
        "empty stage": lambda: staged(empty_plan()),
        "stand-ins": lambda: staged(with_stand_in(empty_plan())),
        "plates only": lambda: staged(with_plate(empty_plan(), folder)),
        "plates without a file": lambda: staged(with_drawn(empty_plan())),
        "rendered image": lambda: of_scene(frame_file(folder / "r.1001.exr")),
        "orthographic": lambda: staged(changed_glass(with_stand_in(empty_plan()), projection="orthographic")),
        "fisheye": lambda: staged(changed_glass(with_stand_in(empty_plan()), projection="fisheye")),
        "without shots": lambda: staged(with_stand_in(empty_plan()).replace(shots=())),
        "a scene that is gone": lambda: staged(
            empty_plan().replace(scenes=(SceneRef(name="gone", path=str(folder / "gone.usda")),))
        ),
    }


def anchors(plan: Plan, stage: Stage) -> dict[AnchorKind, Anchor]:
    """An anchor of every kind, on what a plan has."""
    scene = plan.scenes[0].name
    node = next(node.path for node in stage.scenes[scene].nodes if node.mesh is not None)
    local = (0.0, 0.0, 0.0)
    return {
        "surface": SurfaceAnchor(
            scene=scene, node=node, local=local, vertices=(0, 1, 2), weights=(1.0, 0.0, 0.0)
        ),
        "bounds": BoundsAnchor(scene=scene, node=node),
        "origin": OriginAnchor(scene=scene, node=node),
        "nearest": NearestAnchor(scene=scene, node=node),
        "point": PointAnchor(position_m=(0.1, 0.2, 0.3)),
        "stand-in": StandInAnchor(number=plan.stand_ins[0].number),
        "plate": PlateAnchor(number=plan.plates[0].number),
    }


def tied(folder: Path) -> dict[str, Callable[[], tuple[Plan, Stage, Library]]]:
    """A plan for every kind of anchor that a subject may have, and one in which it stands on nothing."""

    def whole() -> Plan:
        plan = of_scene(scene_file(folder, ".usda"))[0]
        return with_plate(with_stand_in(plan), folder)

    def on(kind: AnchorKind) -> tuple[Plan, Stage, Library]:
        plan, stage, library = staged(whole())
        subject = Subject(number=1, name="It", anchor=anchors(plan, stage)[kind])
        return plan.replace(subjects=(subject,)), stage, library

    def on_nothing(kind: AnchorKind) -> tuple[Plan, Stage, Library]:
        plan = on(kind)[0]
        return staged(plan.replace(scenes=(), stand_ins=(), plates=()))

    kinds: tuple[AnchorKind, ...] = get_args(AnchorKind)
    return {f"on {kind}": lambda kind=kind: on(kind) for kind in kinds} | {
        f"{kind} gone": lambda kind=kind: on_nothing(kind) for kind in kinds
    }
