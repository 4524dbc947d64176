"""The row that lets something fade in or out by two keys."""

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import QPushButton

from kobrel.desk.cards.base import Card
from kobrel.desk.toolkit.fields import Field, narrow, number_field
from kobrel.desk.toolkit.words import plain
from kobrel.plan.pull.fading import Way

_FRAMES = 12.0


class FadeRow:
    """A number of frames and two buttons, *In* and *Out*.

    Parameters
    ----------
    fade : called with the way, and over how many frames from the frame in work on
    """

    def __init__(self, card: Card[Any], fade: Callable[[Way, float], object]) -> None:
        self.over: Field = narrow(
            number_field(
                "Frames of a fade",
                "fr",
                1.0,
                1.0,
                1e5,
                digits=5,
                about="Length of the fade, from this frame on",
            )
        )
        self.over.show_value(_FRAMES)
        self.fade_in, self.fade_out = QPushButton("In"), QPushButton("Out")
        ways: tuple[tuple[QPushButton, str, Way], ...] = (
            (self.fade_in, "Key the opacity from 0 at this frame", "in"),
            (self.fade_out, "Key the opacity to 0, from this frame on", "out"),
        )
        for button, hint, way in ways:
            button.setToolTip(plain(hint))
            button.setAccessibleName(f"Fade {way}")
            button.clicked.connect(lambda _on=False, w=way: fade(w, self.over.value))
        card.row("Fade over frames", self.over, self.fade_in, self.fade_out)
