from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kobrel.optics.units import UNIT_NAMES
from kobrel.plan.check import better_unit, findings, shot_warnings, unit_doubts
from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.occlusion import sightlines
from kobrel.plan.model import (
    CameraEnd,
    DistanceTarget,
    MadeCamera,
    Mark,
    NearestAnchor,
    Plan,
    PointAnchor,
    Shot,
    StandIn,
    StandInAnchor,
    Subject,
    SubjectEnd,
    SubjectTarget,
    Tape,
)
from kobrel.plan.space.stand_ins import SIZES
from kobrel.plan.staging import Library, stage_of
from kobrel.stage import shapes
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Cancelled, Node, Scene
from kobrel.stage.stage import Stage
from tests.conftest import write_mesh


def stand_in(number, kind, position, **changes):
    return StandIn(
        number=number, name=kind.capitalize(), kind=kind, position_m=position,
        **{"size_m": SIZES[kind]} | changes,
    )  # fmt: skip


def scene_of(*stand_ins, subjects=(), near_clip_m=0.01, **glass):
    """Frames 1 to 11, a camera at eye height six metres before the origin."""
    camera = MadeCamera(position_m=(0, 1.6, 6), aim_m=(0, 1.6, 0), near_clip_m=near_clip_m)
    shot = Shot(
        name="1", first=1, last=11, camera=camera, marks=(Mark(frame=1, target=DistanceTarget(metres=6)),)
    )
    shot = shot.replace(glass=shot.glass.replace(**glass))
    plan = Plan(stand_ins=stand_ins, subjects=subjects, shots=(shot,))
    return plan, shot, stage_of(plan, Library())


def on(number):
    return Subject(number=number, name=f"Subject {number}", anchor=StandInAnchor(number=number))


def passing(start=-4.0, end=4.0, ahead=3.0):
    """A wall that is carried across the view, through the middle at frame 6."""
    keys = (
        PlaceKey(frame=1, position_m=(start, 0, ahead), ease="even"),
        PlaceKey(frame=11, position_m=(end, 0, ahead)),
    )
    return stand_in(2, "wall", (start, 0, ahead), keys=keys, size_m=(1.0, 2.5, 0.1))


@pytest.mark.parametrize("projection", ["perspective", "orthographic", "fisheye"])
def test_a_subject_is_hidden_while_something_passes_before_it(projection):
    plan, shot, stage = scene_of(
        stand_in(1, "standing", (0, 0, 0)), passing(), subjects=(on(1),), projection=projection, field_m=6.0
    )
    found = sightlines(plan, shot, stage)
    # The wall is half a metre to each side; 0.8 m a frame.
    assert found.hidden[0].nonzero()[0].tolist() == [5]
    assert found.by == ("Wall",)
    warnings = shot_warnings(plan, shot, stage)
    assert any("Subject 1 is hidden by Wall at 6" in line for line in warnings)


def test_nothing_hides_itself_nor_from_behind():
    plan, shot, stage = scene_of(stand_in(1, "standing", (0, 0, 0)), passing(ahead=-3.0), subjects=(on(1),))
    assert not sightlines(plan, shot, stage).hidden.any()
    assert shot_warnings(plan, shot, stage) == []


def test_a_free_point_is_hidden_by_whatever_is_nearer():
    free = Subject(number=1, name="Point", anchor=PointAnchor(position_m=(0, 1.6, 0)))
    plan, shot, stage = scene_of(passing(), subjects=(free,))
    assert sightlines(plan, shot, stage).hidden[0].nonzero()[0].tolist() == [5]


def test_things_before_the_near_clip_are_told_with_their_frames():
    plan, shot, stage = scene_of(passing(ahead=5.5), near_clip_m=1.0)
    found = sightlines(plan, shot, stage)
    assert found.nearest == "Wall"
    assert np.min(found.nearest_m) == pytest.approx(0.45, abs=0.01)
    line = shot_warnings(plan, shot, stage)[0]
    assert "Wall comes within 0.450 m" in line
    assert "near plane (1.00 m)" in line
    assert "at 6" in line


def test_a_subject_that_leaves_the_picture_is_told():
    keys = (PlaceKey(frame=1, position_m=(0, 0, 0), ease="even"), PlaceKey(frame=11, position_m=(10, 0, 0)))
    plan, shot, stage = scene_of(stand_in(1, "standing", (0, 0, 0), keys=keys), subjects=(on(1),))
    assert shot_warnings(plan, shot, stage) == ["Subject 1 is out of frame at 4–11."]


def test_a_subject_that_is_switched_off_is_told():
    shown = Track(np.array([0.0, 4.0, 8.0]), np.array([[1.0], [0.0], [1.0]]), held=True)
    eye_height = Motion((TransformOp("translate", Track.constant((0.0, 1.6, 0.0))),))
    node = Node("/Lamp", motion=eye_height, mesh=shapes.sphere(0.5, 12), shown=shown)
    stage = Stage([("s", Scene(Path("s"), (node,)))])
    lamp = Subject(number=1, name="Lamp", anchor=NearestAnchor(scene="s", node="/Lamp"))
    plan, shot, _stage = scene_of(subjects=(lamp,))
    shot = shot.replace(marks=(Mark(frame=5, target=SubjectTarget(number=1)),))
    warnings = shot_warnings(plan, shot, stage)
    assert "Lamp is switched off at 4–7: nothing of it is drawn there." in warnings
    found = findings(plan.replace(shots=(shot,)), stage)
    assert "Shot 1, frame 5: the focus is on Lamp, which is switched off there." in found
    later = shot.replace(marks=(Mark(frame=9, target=SubjectTarget(number=1)),))
    assert not any("switched off" in line for line in findings(plan.replace(shots=(later,)), stage))


def test_looking_can_be_stopped():
    plan, shot, stage = scene_of(passing())

    def stop(_what, part):
        if part > 0.3:
            raise Cancelled("enough")

    with pytest.raises(Cancelled):
        sightlines(plan, shot, stage, stop)


@pytest.mark.parametrize(
    ("height", "unit_m", "wanted"),
    [(0.017, 0.01, "Metres"), (170.0, 1.0, "Centimetres"), (1700.0, 1.0, "Millimetres"), (5.6, 1.0, "Feet")],
)
def test_a_person_of_an_impossible_height_tells_the_unit(tmp_path, height, unit_m, wanted):
    assert UNIT_NAMES[better_unit(height, unit_m, 1.7)].startswith(wanted)
    size = height / unit_m
    path = write_mesh(
        tmp_path / "person.usda",
        [[0, 0, 0], [size / 4, 0, 0], [0, size, 0]], [3], [0, 1, 2],
    )  # fmt: skip
    text = path.read_text().replace('"mesh"', '"Woman_01"').replace("(", "(\n    metersPerUnit = 1\n", 0)
    path.write_text(text)
    scene = load_scene(path).read_as(unit_m, "Y")
    doubt = unit_doubts("set", Stage([("set", scene)]))[0]
    line = doubt.text
    assert "/Woman_01 is" in line
    assert f"unit is probably {wanted}." in line


def test_a_person_of_a_possible_height_raises_no_doubt(tmp_path):
    path = write_mesh(tmp_path / "p.usda", [[0, 0, 0], [0.4, 0, 0], [0, 1.8, 0]], [3], [0, 1, 2])
    path.write_text(path.read_text().replace('"mesh"', '"man"'))
    assert unit_doubts("set", Stage([("set", load_scene(path).read_as(1.0, "Y"))])) == []
    tiny = load_scene(path).read_as(1e-5, "Y")
    unnamed = replace(tiny, nodes=tuple(replace(node, path="/thing") for node in tiny.nodes))
    assert "all of it is" in unit_doubts("set", Stage([("set", unnamed)]))[0].text


def test_what_is_tied_to_nothing_is_found():
    plan, _, stage = scene_of(subjects=(Subject(number=1, name="Ghost", anchor=StandInAnchor(number=7)),))
    plan = plan.replace(tapes=(Tape(name="t", start=CameraEnd(), end=SubjectEnd(number=9)),))
    found = findings(plan, stage)
    assert any("stand-in no longer exists" in line for line in found)
    assert any("Tape t: subject 9" in line for line in found)
