"""Frames with true blur in memory: how they are made."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.playback import SIZES, Playback
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.plan.model import Shot
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.view import View

_SAMPLES = (4, 8, 16, 32, 64)
_OFF = "Off: playback uses a fast approximation of the blur."


class CachePanel(Card[Shot]):
    """Whether frames are cached, at which size and quality, and which range."""

    name = "Cache"
    is_page = True
    depends = (Document.plan, Document.shot_index, View.play_range)

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.playback = playback
        self.memory = self.tick(
            "Cache true blur",
            "Render frames to memory and play them in real time",
            lambda _shot: playback.on,
            playback.switch,
        )
        self.told = self.bind(self.note(), lambda _shot: playback.told or _OFF)
        self.wide = choice(
            "Size of cached frames", [(f"{px} px wide", px) for px in SIZES],
            "Width of the cached frames, pixels",
        )  # fmt: skip
        self.bind(
            self.wide, lambda _shot: playback.draft.width, lambda width: playback.set_draft(width=width)
        )
        self.row("Size", self.wide)
        self.passes = choice(
            "Samples", [(f"{count} samples", count) for count in _SAMPLES],
            "Rays per pixel: more give less noise and take longer",
        )  # fmt: skip
        self.bind(
            self.passes,
            lambda _shot: playback.draft.passes,
            lambda passes: playback.set_draft(passes=passes),
        )
        self.row("Quality", self.passes)
        self.every = choice(
            "Cached frames",
            [("Every frame", 1), ("Every 2nd frame", 2), ("Every 4th frame", 4)],
            "Frames to render; the frames between repeat the one before",
        )
        self.bind(
            self.every, lambda _shot: playback.draft.every, lambda every: playback.set_draft(every=every)
        )
        self.row("Frames", self.every)
        self.clay = self.tick(
            "Clay render",
            "Flat grey surfaces, to judge form and blur alone",
            lambda _shot: playback.draft.clay,
            lambda on: playback.set_draft(clay=on),
        )
        self.first = self._frame("First frame of the range", "First frame of playback", 0)
        self.last = self._frame("Last frame of the range", "Last frame of playback", 1)
        self.row("Range", self.first, self.last)
        playback.changed.connect(self._refresh_if_seen)

    def _frame(self, name: str, about: str, end: int) -> Field:
        field = number_field(name, "frame", 1.0, -1e6, 1e6, digits=8, about=about)
        field.setFixedWidth(80)
        return self.bind(field, lambda _shot: self.playback.frames[end], self._take_range)

    def _take_range(self, _value: float) -> None:
        self.playback.set_range(round(self.first.value), round(self.last.value))

    def subject(self) -> Shot | None:
        return self.session.shot
