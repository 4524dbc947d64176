"""Alternatives of a shot's settings, kept with it."""

from kobrel.errors import PlanError
from kobrel.plan.model import ALT_FIELDS, Alt, Shot


def kept(shot: Shot, name: str) -> Shot:
    """The shot with its settings kept under a name, in place of what was kept so.

    Raises
    ------
    PlanError
        The name is empty.
    """
    if not name.strip():
        raise PlanError("An alt needs a name.")
    fresh = Alt(name=name.strip(), **{field: getattr(shot, field) for field in ALT_FIELDS})
    others = [alt for alt in shot.alts if alt.name != fresh.name]
    return shot.replace(alts=(*others, fresh))


def taken(shot: Shot, name: str) -> Shot:
    """The shot with the settings of one of its Alts.

    Raises
    ------
    PlanError
        It has none of that name.
    """
    alt = next((alt for alt in shot.alts if alt.name == name), None)
    if alt is None:
        raise PlanError(f"Shot {shot.label} has no alt {name}.")
    return shot.replace(**{field: getattr(alt, field) for field in ALT_FIELDS})


def renamed(shot: Shot, name: str, new: str) -> Shot:
    """The shot with one of its alts under another name.

    Raises
    ------
    PlanError
        The new name is empty, or another alt has it.
    """
    new = new.strip()
    if not new:
        raise PlanError("An alt needs a name.")
    if new != name and any(alt.name == new for alt in shot.alts):
        raise PlanError(f"An alt named {new} exists.", remedy="Choose another name.")
    return shot.replace(alts=tuple(alt.replace(name=new) if alt.name == name else alt for alt in shot.alts))


def removed(shot: Shot, name: str) -> Shot:
    """The shot without an Alt."""
    return shot.replace(alts=tuple(alt for alt in shot.alts if alt.name != name))


def is_now(shot: Shot, alt: Alt) -> bool:
    """Whether the shot's settings are those of an Alt."""
    return all(getattr(shot, field) == getattr(alt, field) for field in ALT_FIELDS)


def unused_name(shot: Shot, stem: str = "Alt") -> str:
    """A name that no Alt of the shot has yet."""
    names = {alt.name for alt in shot.alts}
    return next(name for k in range(1, len(names) + 2) if (name := f"{stem} {k}") not in names)
