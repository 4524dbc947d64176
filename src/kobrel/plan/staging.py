"""From a plan to its stage: scenes that are read once, placed anew whenever the plan changes."""

from dataclasses import dataclass, field
from pathlib import Path

from kobrel import trust
from kobrel.errors import KobrelError, SceneError
from kobrel.optics.units import Measure, PlanUnit, measure, scene_measure
from kobrel.plan.measure.reliefs import aside_of, placement, relief_before, reliefs_alike
from kobrel.plan.model import Plan, SceneRef
from kobrel.plan.names import is_of_a_file
from kobrel.plan.pictures.rendered import RenderedImage
from kobrel.plan.plates.pixels import PixelCache, PlateKey, plate_key
from kobrel.plan.space.plates import dials_of, plate_scene
from kobrel.plan.space.plates import scene_of as plate_scene_of
from kobrel.plan.space.stand_ins import scene_of, stand_in_scene
from kobrel.stage.pictures.environment import Environment, load_environment
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Cancelled, Choices, Progress, Scene, UpAxis, no_progress
from kobrel.stage.stage import Setting, Stage

Source = tuple[str, Choices, RenderedImage | None]
"""A scene file and what of it is selected; or how a rendered image counts."""


def unit_of(plan: Plan, stage: Stage, unit: PlanUnit | None = None) -> Measure:
    """The unit in which a plan's lengths are shown, or another: a scene's own is that of the first one."""
    wanted = unit or plan.unit
    if wanted != "scene":
        return measure(wanted)
    own = [scene.unit_m for name, scene in stage.scenes.items() if is_of_a_file(name)]
    return scene_measure(own[0] if own else 1.0)


def source_of(reference: SceneRef) -> Source:
    """What has to be read for a scene of a plan."""
    return reference.path, reference.choices, reference.finished


@dataclass
class Library:
    """What has been read for a plan: scenes as their files say, pictures for light, and what could not
    be read.
    """

    scenes: dict[Source, Scene] = field(default_factory=dict)
    surrounds: dict[str, Environment] = field(default_factory=dict)
    problems: dict[str, str] = field(default_factory=dict)
    shelf: PixelCache = field(default_factory=PixelCache)
    _in_other_units: dict[tuple[Scene, float, UpAxis], Scene] = field(default_factory=dict)

    def missing(self, plan: Plan) -> bool:
        """Whether the plan names files that were not read yet, nor tried."""
        wanted = {r.path for r in plan.scenes if source_of(r) not in self.scenes}
        if plan.light.surround and plan.light.surround.path not in self.surrounds:
            wanted.add(plan.light.surround.path)
        plates = {plate_key(plan, plate) for plate in plan.plates}
        unmade = plates - self.shelf.sources.keys() - self.shelf.failed
        return bool(wanted - self.problems.keys()) or bool(unmade)

    def read(self, plan: Plan, progress: Progress = no_progress) -> None:
        """Read what the plan names and is not here yet.

        Raises
        ------
        Cancelled
            `progress` asked to stop.
        """
        for reference in plan.scenes:
            source = source_of(reference)
            if source not in self.scenes:
                try:
                    _require_allowed(reference.path)
                    self.scenes[source] = _read(reference, progress)
                    self.problems.pop(reference.path, None)
                except Cancelled:
                    raise
                except KobrelError as error:
                    self.problems[reference.path] = str(error)
        surround = plan.light.surround
        if surround and surround.path not in self.surrounds:
            try:
                _require_allowed(surround.path)
                self.surrounds[surround.path] = load_environment(Path(surround.path))
                self.problems.pop(surround.path, None)
            except KobrelError as error:
                self.problems[surround.path] = str(error)
        self._read_plates(plan, progress)

    def _read_plates(self, plan: Plan, progress: Progress) -> None:
        keys: dict[PlateKey, str] = {plate_key(plan, plate): plate.name for plate in plan.plates}
        fresh = [key for key in keys if key not in self.shelf.sources and key not in self.shelf.failed]
        for number, key in enumerate(fresh):
            progress(f"Making plate {keys[key]}", number / len(fresh))
            try:
                for path in key.paths:
                    _require_allowed(path)
                self.shelf.make(key, progress)
                self.problems.pop(key.source, None)
            except Cancelled:
                raise
            except KobrelError as error:
                self.problems[key.source] = str(error)
                self.shelf.failed.add(key)
        self.shelf.keep_only(keys.keys())

    def scene(self, reference: SceneRef) -> Scene | None:
        """A scene in the unit and with the axis up that the plan asks for; None where it was not read. Until
        other choices are read, what was read of the file before is used instead.
        """
        known = (scene for (path, *_), scene in self.scenes.items() if path == reference.path)
        scene = self.scenes.get(source_of(reference)) or next(known, None)
        if scene is None or (reference.unit_m is None and reference.up is None):
            return scene
        key = scene, reference.unit_m or scene.unit_m, reference.up or scene.up
        if key not in self._in_other_units:
            self._in_other_units[key] = scene.read_as(*key[1:])
        return self._in_other_units[key]

    def forget(self, path: str) -> None:
        """Let a file be read again."""
        self.scenes = {source: scene for source, scene in self.scenes.items() if source[0] != path}
        self.surrounds.pop(path, None)
        self.shelf.forget(path)
        self.problems.pop(path, None)

    def problems_of(self, plan: Plan) -> list[str]:
        """Why files of the plan could not be read."""
        paths = [scene.path for scene in plan.scenes]
        paths += [plan.light.surround.path] if plan.light.surround else []
        paths += [plate.picture.source for plate in plan.plates]
        return [self.problems[path] for path in dict.fromkeys(paths) if path in self.problems]


def _read(reference: SceneRef, progress: Progress) -> Scene:
    if reference.finished is None:
        return load_scene(Path(reference.path), progress, reference.choices)
    from kobrel.stage.read.rendered.relief import load_relief

    for path in filter(None, (reference.finished.path, reference.finished.depth_path)):
        _require_allowed(path)
    return load_relief(reference.finished, progress)


def _require_allowed(path: str) -> None:
    if not trust.is_allowed(path):
        raise SceneError(trust.refusal(path), file=path)


def stage_of(plan: Plan, library: Library, like: Stage | None = None) -> Stage:
    """The stage of a plan, from what was read; what is the same as in another is kept.

    Where nothing but rendered images is there, each shot has a form of it in which its own picture stands
    as a relief before its own camera, see :meth:`Stage.of_shot`.
    """
    before = None if like is None else like.whole
    read = [(r, scene) for r in plan.scenes if (scene := library.scene(r)) is not None]
    solid = [
        Setting(reference.name, scene, placement(reference), frozenset(reference.hidden))
        for reference, scene in read
        if reference.finished is None
    ]
    others, surround = _others(plan, library), plan.light.surround
    about = library.surrounds.get(surround.path) if surround else None
    if any(reference.finished is None for reference in plan.scenes):
        return Stage([*solid, *others], about, before)
    aside = {reference.name: aside_of(reference, scene) for reference, scene in read}
    whole = Stage([*aside.values(), *others], about, before)
    for shot in plan.shots:
        own = next((each for each in read if each[0].name == shot.finished), None)
        if own is not None:
            settings = {**aside, shot.finished: relief_before(plan, shot, *own, whole)}
            known = before.of_shot(shot.name) if before is not None else whole
            whole.put_for_shot(shot.name, Stage([*settings.values(), *others], about, known))
    return whole


def _others(plan: Plan, library: Library) -> list[Setting]:
    """Stand-ins and plates."""
    settings = [Setting(scene_of(s.number), stand_in_scene(s), apart=True) for s in plan.stand_ins]
    keys = [plate_key(plan, plate) for plate in plan.plates]
    settings += [
        Setting(
            plate_scene_of(plate.number),
            plate_scene(plate, dials_of(plate, plan.dials), library.shelf.source(key, keys)),
            apart=True,
        )
        for plate, key in zip(plan.plates, keys, strict=True)
    ]
    return settings


def staged_alike(old: Plan, new: Plan) -> bool:
    """Whether two plans have the same stage."""
    before, after = old.light.surround, new.light.surround
    return (
        old.scenes == new.scenes
        and old.stand_ins == new.stand_ins
        and old.plates == new.plates
        and (old.dials == new.dials or not new.plates)
        and reliefs_alike(old, new)
        and (before.path if before else None) == (after.path if after else None)
    )


def load_stage(plan: Plan, progress: Progress = no_progress) -> tuple[Stage, list[str]]:
    """Read every scene of a plan.

    Returns
    -------
    The stage with the scenes that could be read, and why the others could not.

    Raises
    ------
    Cancelled
        `progress` asked to stop.
    """
    library = Library()
    library.read(plan, progress)
    return stage_of(plan, library), library.problems_of(plan)
