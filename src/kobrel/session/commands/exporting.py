"""Commands that export: values and their unit, custom values, values taken back, files kept up to date."""

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import cast

from kobrel.errors import PlanError
from kobrel.exchange.upkeep import Allowance, Asked, fault_of, real_path, state_of
from kobrel.files import real_place
from kobrel.optics.units import Measure, PlanUnit
from kobrel.plan.export import UpdatedFile
from kobrel.plan.measure.survey import GONE
from kobrel.plan.model import Shot
from kobrel.plan.staging import unit_of
from kobrel.plan.values.blocks import Term, blocks_for
from kobrel.plan.values.changes import Taken, taken_values
from kobrel.plan.values.own import SUFFIX, CustomValues, Family, as_block, read_folder, values_of, write_own
from kobrel.plan.values.reading import Values, read_values
from kobrel.plan.values.render_camera import RenderCamera, render_camera
from kobrel.session import settings
from kobrel.session.needs import needs_shot
from kobrel.session.numbers import Now
from kobrel.session.session import Session

_MOST_KEPT = 2000
UNITS: dict[str, str] = {
    "": "The plan's", "scene": "The scene's", "m": "m", "cm": "cm", "mm": "mm", "in": "in", "ft": "ft",
}  # fmt: skip
"""Units of values, and how they are called."""


def unit_chosen(session: Session) -> PlanUnit | None:
    """The unit that is chosen for values; none is the plan's."""
    name = session.settings.get(settings.VALUES_UNIT)
    return cast(PlanUnit, name) if name in UNITS and name else None


def values_unit(session: Session) -> Measure:
    """The unit that values are told in; feet count in tenths, as renderers take them."""
    return unit_of(session.plan, session.stage, unit_chosen(session))


def families(session: Session, now: Now) -> list[Family]:
    """The conventions that can describe a shot, Kobrel's and then a person's own."""
    return [*blocks_for(now.camera.projection), *session.view.custom_values]


def values_now(session: Session, now: Now, which: Family, whole: RenderCamera | None = None) -> list[Term]:
    """The values of a convention at the frame.

    Parameters
    ----------
    whole : the camera at all frames, if it is known already
    """
    survey = now.survey
    seen = survey.state[:, now.row] != GONE
    camera = (whole or render_camera(now.shot, survey)).at(now.row)
    return values_of(which, camera, values_unit(session), survey.focus_distance_m[seen, now.row])


def as_text(session: Session, now: Now, which: Sequence[Family]) -> str:
    """Values as lines, a title above each family."""
    parts = []
    for family in which:
        lines = [f"{term.label}: {term.shown}" for term in values_now(session, now, family)]
        parts.append("\n".join([as_block(family).title, *lines]))
    return "\n\n".join(parts) + "\n"


def as_table(session: Session, now: Now, which: Sequence[Family]) -> str:
    """Values as a table with tabs, for a spreadsheet."""
    rows = [
        "\t".join((as_block(family).title, term.label, term.text, term.symbol))
        for family in which
        for term in values_now(session, now, family)
    ]
    return "\n".join(["Terms\tName\tValue\tUnit", *rows]) + "\n"


# custom values


def load_custom_values(session: Session) -> None:
    """Read a person's custom values; what is wrong with a file is told."""
    found, told = read_folder(session.settings.folder / "terms")
    session.view.custom_values = tuple(found)
    if told:
        session.say(told[0])


def save_custom_values(session: Session, own: CustomValues, instead_of: str = "") -> None:
    """Keep custom values, in place of those of a key.

    Raises
    ------
    PlanError
        They cannot be written.
    """
    write_own(session.settings.folder / "terms", own)
    others = [each for each in session.view.custom_values if each.key not in (own.key, instead_of)]
    if instead_of and instead_of != own.key:
        _forget_file(session, instead_of)
    session.view.custom_values = tuple(sorted([*others, own], key=lambda each: each.title.casefold()))


def remove_custom_values(session: Session, key: str) -> None:
    """Forget custom values, and their file."""
    _forget_file(session, key)
    session.view.custom_values = tuple([each for each in session.view.custom_values if each.key != key])


def _forget_file(session: Session, key: str) -> None:
    path = session.settings.folder / "terms" / f"{key}{SUFFIX}"
    try:
        path.unlink(missing_ok=True)
    except OSError as error:
        session.say(
            f"{path} cannot be deleted ({error.strerror}): these values will be here again at the next start."
        )


# Back


def read_pasted(session: Session, text: str) -> Values:
    """The values that a text gives, lengths without a unit in that of the values.

    Raises
    ------
    PlanError
        It gives none; says why.
    """
    return read_values(text, values_unit(session), session.view.custom_values)


def with_values(session: Session, values: Values) -> Taken:
    """The shot with values, and what that would change.

    Raises
    ------
    PlanError
        It cannot have them.
    """
    shot = session.shot
    if shot is None:
        raise PlanError("No shot to apply them to.")
    return taken_values(
        session.plan,
        shot,
        session.stage,
        values,
        session.frame,
        values_unit(session),
        session.view.custom_values,
    )


@needs_shot
def take_shot(session: Session, shot: Shot, changed: Shot, name: str) -> None:
    """Take a shot with values or parts of a camera in place of the one in work."""
    session.edit_shot(name, lambda _old: changed)
    session.say(f"{name} applied to {shot.label}.")


# Files that are kept up to date


def keep_handing(session: Session, out: UpdatedFile, plan_path: Path | None = None) -> None:
    """Write a file anew at each save from now on.

    Parameters
    ----------
    plan_path : of the plan, which may write in that folder then; None if it was never saved
    """
    fault = fault_of(out)
    if fault:
        session.say(f"{out.path}: {fault} It is not updated on save.")
        return
    if plan_path is not None:
        _allow(session, plan_path, [real_path(out).parent])
    others = [each for each in session.plan.handed if each.path != out.path]
    session.edit("Link an export", session.plan.replace(handed=(*others, out)))


def stop_handing(session: Session, path: str) -> None:
    """Write a file anew no more; it stays where it is."""
    kept = tuple(each for each in session.plan.handed if each.path != path)
    session.edit("Stop updating file", session.plan.replace(handed=kept))


def allowance(session: Session, plan_path: Path) -> Allowance:
    """What a plan may write, as it was allowed before."""
    place = str(real_place(plan_path))
    pairs = [pair for pair in session.settings.get(settings.WRITES) if len(pair) == 2]
    folders = frozenset(Path(folder) for plan, folder in pairs if plan == place)
    written = session.settings.get(settings.WRITTEN)
    return Allowance(folders, written)


def allow_writing(session: Session, plan_path: Path, wanted: Asked) -> None:
    """Let a plan write what was asked for, now and at later saves."""
    _allow(session, plan_path, wanted.folders)
    note_written(session, wanted.replaced)


def _allow(session: Session, plan_path: Path, folders: Iterable[Path]) -> None:
    place, kept = str(real_place(plan_path)), session.settings.get(settings.WRITES)
    new = [[place, str(folder)] for folder in folders if [place, str(folder)] not in kept]
    if new:
        session.settings.put(settings.WRITES, [*kept, *new][-_MOST_KEPT:])


def note_written(session: Session, paths: Iterable[Path]) -> None:
    """Note files as they are now: they are Kobrel's own, or may be written over."""
    kept = session.settings.get(settings.WRITTEN).copy()
    for path in paths:
        kept.pop(str(path), None)
        kept[str(path)] = state_of(path)
    session.settings.put(settings.WRITTEN, dict(list(kept.items())[-_MOST_KEPT:]))
