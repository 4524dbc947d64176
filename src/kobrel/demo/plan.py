"""The plan of Night Ferry: four shots on its scene."""

from pathlib import Path

from kobrel.optics.exposure import t_stop
from kobrel.plan.edit import add_subject, add_tape
from kobrel.plan.file import save_plan
from kobrel.plan.glass import with_lens
from kobrel.plan.instrument import BACKGROUND, Criterion, Exposure, Glass, Requirement, Sensor
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.lens_sets.lenses import shipped_lens_sets
from kobrel.plan.look import Light
from kobrel.plan.model import (
    BoundsAnchor,
    CameraEnd,
    Cue,
    DistanceTarget,
    FileCamera,
    Mark,
    Plan,
    SceneRef,
    Shot,
    StandIn,
    SubjectEnd,
    SubjectTarget,
)
from kobrel.plan.variants.alts import kept

NAME = "ferry"
LANTERN, FERRYMAN, BOOTH, COMPASS, PASSENGER, FERRY = range(1, 7)
SENSOR = Sensor(width_mm=24.89, height_mm=14.0)
DUSK = Light(
    key_azimuth_deg=-118.0,
    key_elevation_deg=24.0,
    key_strength=0.42,
    key_colour=(0.62, 0.74, 1.0),
    zenith=(0.018, 0.034, 0.085),
    horizon=(0.30, 0.135, 0.075),
    ground=(0.018, 0.019, 0.024),
    sky_strength=1.0,
    exposure_ev=0.6,
)


STAND_INS = (
    StandIn(
        number=1, name="Waiting child", kind="child", size_m=(0.45, 1.22, 0.30), position_m=(-1.55, 0.0, -3.7),
        turn_deg=118.0, colour=(0.16, 0.07, 0.05),
    ),
    StandIn(
        number=2, name="Suitcase", kind="box", size_m=(0.52, 0.38, 0.2), position_m=(-1.15, 0.0, -3.5),
        turn_deg=28.0, colour=(0.12, 0.075, 0.04),
    ),
)  # fmt: skip


def _node(path: str) -> BoundsAnchor:
    return BoundsAnchor(scene=NAME, node=f"/NightFerry/{path}")


def _on(frame: int, subject: int) -> Mark:
    return Mark(frame=frame, target=SubjectTarget(number=subject))


def _shot(
    name: str, title: str, camera: str, last: int, glass: Glass, iris: IrisShape, brief: tuple[Requirement, ...],
    *marks: Mark,
) -> Shot:  # fmt: skip
    stop = float(t_stop(glass.f_number.value, glass.transmission))
    return Shot(
        name=name, title=title, first=1001, last=last, glass=glass, iris=iris, marks=marks, brief=brief,
        exposure=Exposure.right_at(stop),
        camera=FileCamera(scene=NAME, path=f"/NightFerry/Cameras/{camera}"),
    )  # fmt: skip


def _glass(focal: float, stop: Keyed, squeeze: float = 1.0) -> Glass:
    return Glass(
        sensor=Sensor(width_mm=SENSOR.width_mm / squeeze, height_mm=SENSOR.height_mm),
        focal_mm=Keyed(value=focal), f_number=stop, squeeze=squeeze, criterion=Criterion(value=2.5),
    )  # fmt: skip


def _rehearsed(shot: Shot) -> Shot:
    """The shot with its cues, handles for the cut, and an Alt that is stopped down and pulls later."""
    cues = Cue(name="He turns", first=1037, last=1052), Cue(name="First word", first=1066)
    slow = _glass(50, Keyed(value=4.0), squeeze=2.0)
    late = _on(1001, LANTERN), _on(1052, LANTERN), _on(1072, FERRYMAN), _on(1096, FERRYMAN)
    other = kept(shot.replace(glass=slow, marks=late), "Later, f/4")
    return shot.replace(cues=cues, handles=8, alts=other.alts)


def night_ferry(scene: Path) -> Plan:
    """The plan, on the scene at a path."""
    plan = Plan(name="Night Ferry", scenes=(SceneRef(name=NAME, path=str(scene.absolute())),), light=DUSK)
    for title, path in (
        ("Lantern", "Lantern/Glass"), ("Ferryman", "Ferryman/Head"), ("Booth", "Booth/Window"),
        ("Compass", "Compass/Face"), ("Passenger", "Passenger/Head"), ("Ferry", "Ferry/Cabin"),
    ):  # fmt: skip
        plan, _ = add_subject(plan, title, _node(path))
    plan, _ = add_tape(plan, "Lens to lantern", CameraEnd(), SubjectEnd(number=LANTERN))
    plan, _ = add_tape(plan, "Lantern to ferryman", SubjectEnd(number=LANTERN), SubjectEnd(number=FERRYMAN))
    prime = next(lens for kit in shipped_lens_sets() for lens in kit.lenses if lens.focal_mm == (65, 65))
    blades, round_iris = IrisShape(blades=7, roundness=0.45, rotation_deg=12), IrisShape()
    return plan.replace(
        stand_ins=STAND_INS,
        shots=(
            _shot("01", "Quay wide", "Wide", 1072, _glass(24, Keyed(value=2.8)), blades,
                (Requirement(subject=BOOTH), Requirement(subject=FERRYMAN, kind="at_most", px=4)), _on(1001, BOOTH),
            ),
            _rehearsed(_shot(
                "02", "Lantern to ferryman", "Rack", 1096, _glass(50, Keyed(value=1.4), squeeze=2.0), round_iris,
                (
                    Requirement(subject=LANTERN, last=1037), Requirement(subject=FERRYMAN, first=1061),
                    Requirement(subject=BACKGROUND, kind="at_least", px=16),
                ),
                _on(1001, LANTERN), _on(1037, LANTERN), _on(1061, FERRYMAN), _on(1096, FERRYMAN),
            )),
            _shot(
                "03", "Brass compass", "Compass", 1060, _glass(85, Keyed(value=5.6)), blades,
                (Requirement(subject=COMPASS, last=1024), Requirement(subject=BACKGROUND, kind="at_least", px=60)),
                _on(1001, COMPASS), Mark(frame=1060, target=DistanceTarget(metres=0.47)),
            ),
            _shot(
                "04", "Departure", "Departure", 1120,
                with_lens(
                    _glass(65, Keyed(value=2.0, keys=(Key(frame=1060, value=2.0), Key(frame=1112, value=4.0)))), prime,
                ),
                blades, (Requirement(subject=PASSENGER, last=1080), Requirement(subject=FERRY, first=1110)),
                _on(1001, PASSENGER), _on(1080, PASSENGER), _on(1108, FERRY),
            ),
        )
    )  # fmt: skip


def save(scene: Path, path: Path) -> None:
    """Write the plan."""
    save_plan(night_ferry(scene), path)
