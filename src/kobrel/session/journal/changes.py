"""What changed from one plan to the next, as JSON, and the next plan from it."""

from dataclasses import dataclass
from typing import Any, TypeVar, cast

from pydantic_core import to_jsonable_python

from kobrel.plan.parts import Part

Change = list[Any]
"""``[place, value]``, or ``[place, start, stop, values]`` where values take the place of a stretch of a
list; the place is the names and indices that lead there from the plan."""
_MISSING = object()
P = TypeVar("P", bound=Part)


def changes_between(old: Part, new: Part) -> list[Change]:
    """What changed from a part to another of its kind. Parts that are the very same are not looked at.

    >>> from kobrel.plan.look import Guides
    >>> changes_between(Guides(), Guides(thirds=True))
    [[['thirds'], True]]
    """
    found: list[Change] = []
    _compare(old, new, [], found)
    return found


def as_json(value: object) -> Any:
    """A value of a plan as JSON has it."""
    return to_jsonable_python(value, inf_nan_mode="strings")


def _fields(part: Part) -> dict[str, Any]:
    """All fields, those of a later version too; ``dict(part)`` would take a field ``keys`` for its own."""
    return {name: value for name, value in part}  # noqa: C416


def _compare(old: object, new: object, place: list[str | int], found: list[Change]) -> None:
    if old is new:
        return
    if isinstance(old, Part) and isinstance(new, Part) and type(old) is type(new):
        before, after = _fields(old), _fields(new)
        if before.keys() <= after.keys():
            for name in after:
                _compare(before.get(name, _MISSING), after[name], [*place, name], found)
            return
    if isinstance(old, tuple) and isinstance(new, tuple) and any(isinstance(each, Part) for each in new):
        _compare_lists(old, new, place, found)
    elif old != new or type(old) is not type(new):
        found.append([place, as_json(new)])


def _compare_lists(
    old: tuple[object, ...], new: tuple[object, ...], place: list[str | int], found: list[Change]
) -> None:
    if len(old) == len(new):
        for index, (before, after) in enumerate(zip(old, new, strict=True)):
            _compare(before, after, [*place, index], found)
        return
    least = min(len(old), len(new))
    start = next((i for i in range(least) if old[i] is not new[i]), least)
    rest = least - start
    end = next((i for i in range(rest) if old[-1 - i] is not new[-1 - i]), rest)
    found.append([place, start, len(old) - end, as_json(new[start : len(new) - end])])


@dataclass(frozen=True)
class _Loose:
    """A part whose fields are changed one after the other, before it is checked as a whole."""

    kind: type[Part]
    fields: dict[str, Any]
    changed: frozenset[str] = frozenset()


def with_changes(part: P, changes: list[Change]) -> P:
    """The part that some changes lead to, checked when all are made; what they leave alone stays the very
    same.

    Raises
    ------
    ValueError, LookupError, TypeError
        They do not fit to it.
    """
    loose: Any = part
    for place, *what in changes:
        loose = _put(loose, place, what)
    firm = _firm(loose)
    return cast(P, firm) if isinstance(firm, Part) else type(part).model_validate(firm)


def _put(here: Any, place: list[str | int], what: list[Any]) -> Any:
    if not place:
        if len(what) == 1:
            return what[0]
        start, stop, values = what
        return (*here[:start], *values, *here[stop:])
    head, *rest = place
    if isinstance(head, int):
        return (*here[:head], _put(here[head], rest, what), *here[head + 1 :])
    loose = here if isinstance(here, _Loose) else _Loose(type(here), _fields(here))
    fields = {**loose.fields, head: _put(loose.fields.get(head), rest, what)}
    return _Loose(loose.kind, fields, loose.changed | {head})


def _firm(value: Any) -> Any:
    """The value with all its loose parts checked."""
    if isinstance(value, tuple):
        return tuple(map(_firm, value))
    if not isinstance(value, _Loose):
        return value
    made = value.kind(**{name: _firm(field) for name, field in value.fields.items()})
    made.__dict__.update(
        {n: field for n, field in value.fields.items() if n not in value.changed and n in made.__dict__}
    )
    return made
