"""Plain fields of the document, by their paths: "light.shoulder" of the plan, "shot.width_px" of the shot."""

from typing import Any

from kobrel.plan.model import Plan, Shot
from kobrel.plan.parts import Described, described, value_at, with_value_at
from kobrel.session.session import Session

_OF_SHOT = "shot."


def change(session: Session, path: str, value: object, label: str) -> None:
    """Change a field."""
    if path.startswith(_OF_SHOT):
        session.edit_shot(label, lambda shot: with_value_at(shot, path.removeprefix(_OF_SHOT), value))
    else:
        session.edit(label, with_value_at(session.plan, path, value))


def value(session: Session, path: str) -> Any:
    """The value of a field; None where there is no shot that could have it."""
    if not path.startswith(_OF_SHOT):
        return value_at(session.plan, path)
    return None if session.shot is None else value_at(session.shot, path.removeprefix(_OF_SHOT))


def described_at(path: str) -> Described:
    """What the schema says of a field."""
    return (
        described(Shot, path.removeprefix(_OF_SHOT)) if path.startswith(_OF_SHOT) else described(Plan, path)
    )
