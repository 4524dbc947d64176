"""Painted views for assistive technology: each has a role, and tells in words what it shows."""

from typing import Protocol

from PySide6.QtCore import QObject
from PySide6.QtGui import QAccessible, QAccessibleInterface, QAccessibleValueChangeEvent
from PySide6.QtWidgets import QAccessibleWidget, QWidget

from kobrel.desk.boundary import guarded
from kobrel.plan.measure.survey import GONE, SHARP
from kobrel.session.session import Session


class Spoken(Protocol):
    """A widget that tells what it shows."""

    spoken_role: QAccessible.Role

    def spoken_value(self) -> str:
        """What it shows now, in words."""


@guarded
class _SpokenWidget(QAccessibleWidget):
    """The view as assistive technology sees it."""

    def text(self, kind: QAccessible.Text) -> str:
        widget = self.object()
        if kind == QAccessible.Text.Value:
            return str(widget.spoken_value())  # type: ignore[attr-defined]
        if kind == QAccessible.Text.Name and isinstance(widget, QWidget):
            return widget.accessibleName()
        return super().text(kind)


def _interface(_name: str, widget: QObject) -> QAccessibleInterface | None:
    if not (isinstance(widget, QWidget) and hasattr(widget, "spoken_value")):
        return None
    made = _SpokenWidget(widget, widget.spoken_role, widget.accessibleName())  # type: ignore[attr-defined]
    widget._spoken = made  # type: ignore[attr-defined]  # lives as long as the widget
    return made


def install() -> None:
    """Let assistive technology read painted views; once for an application."""
    QAccessible.installFactory(_interface)


def announce(widget: QWidget) -> None:
    """Tell that a view shows something else, where somebody listens and is in it."""
    if QAccessible.isActive() and widget.hasFocus():
        value = widget.spoken_value()  # type: ignore[attr-defined]
        QAccessible.updateAccessibility(QAccessibleValueChangeEvent(widget, value))


def subjects_in_words(session: Session) -> str:
    """Each subject at the frame: number, name, distance, blur and state."""
    now = session.now
    if now is None:
        return session.problem
    told = []
    for row, number in enumerate(now.survey.subjects):
        subject, state = now.plan.subject(number), now.survey.state[row, now.row]
        if subject is None:
            continue
        if state == GONE:
            told.append(f"{number} {subject.name}, not in the picture")
            continue
        distance = session.length(float(now.survey.focus_distance_m[row, now.row]))
        blur = float(now.survey.sight.blur_px[row, now.row])
        told.append(
            f"{number} {subject.name}, {distance}, {'sharp' if state == SHARP else 'soft'}, {blur:.1f} pixels"
        )
    return "; ".join(told) or "no subjects"


def focus_in_words(session: Session) -> str:
    """Frame, focus, what is sharp, and the stop."""
    now = session.now
    if now is None:
        return session.problem
    near, far = (session.length(float(limit)) for limit in now.camera.limits_m)
    focus = session.length(float(now.camera.focus_m))
    return f"frame {now.frame:g}, focus {focus}, sharp {near} to {far}, f/{float(now.camera.f_number):.3g}"
