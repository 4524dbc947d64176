"""What is seen, and how: tab and page, the wall, playing, colours."""

from collections.abc import Sequence
from typing import Any

from kobrel.optics.exposure import StopSteps
from kobrel.plan.values.own import CustomValues
from kobrel.plan.variants.proofs import ORDERS, Order
from kobrel.session import settings as keys
from kobrel.session.evented import Field, Room, Values
from kobrel.session.settings import Setting, Settings
from kobrel.session.tools import Below, Seen, WallMode, WallSource

PLAY_SPEEDS = (0.25, 0.5, 1.0, 2.0, 4.0)
_STEPS: tuple[StopSteps, ...] = ("full", "half", "third", "free")


class View(Room):
    """What is seen, and how; much of it is remembered from one start to the next.

    Fields
    ------
    card, below, seen : the tab, and what stands in the chart's and in Picture's room
    wall, wall_mode, proof_order : what hangs on the wall, how it is seen, and in which order
    playing : whether the shot plays
    play_speed, loops : how many times its own rate it plays, and whether it starts again at the end
    play_range : a shot's name, and the first and last of its frames that are played; None is all of any shot
    thrown, throw_px : whether all is shown out of focus, and by how many pixels (below 0 as before the focus)
    denoises : whether noise is removed from Picture
    file_as_it_is : whether a rendered image is shown without the shot's blur
    pointed_value : key of the quantity under the pointer, which the views show
    custom_values : a person's custom values that are known
    stop_steps : which stops are taken when one steps or drags
    subject_order : of the list of subjects: "" by hand, or by "distance"
    picture_scale : pixels on the screen for each at delivery
    theme : the colours
    """

    card = Field(3)
    below: Field[Below] = Field("")
    seen: Field[Seen] = Field("")
    wall: Field[WallSource] = Field("wall")
    wall_mode: Field[WallMode] = Field("all")
    proof_order: Field[Order] = Field("kept")
    playing = Field(False)
    play_speed = Field(1.0)
    loops = Field(True)
    play_range: Field[tuple[str, int, int] | None] = Field(None)
    defocus_everything = Field(False)
    throw_px = Field(60.0)
    denoises = Field(True)
    file_as_it_is = Field(False)
    pointed_value = Field("")
    custom_values: Field[tuple[CustomValues, ...]] = Field(())
    stop_steps: Field[StopSteps] = Field("free")
    subject_order = Field("")
    picture_scale = Field(0.5)
    theme = Field("dark")

    def __init__(self, values: Values, settings: Settings) -> None:
        super().__init__(values)
        self._settings = settings
        self._remember(View.card, keys.CARD, range(1, 9))
        self._remember(View.theme, keys.THEME)
        self._remember(View.subject_order, keys.SUBJECT_ORDER)
        self._remember(View.throw_px, keys.THROW_PX)
        self._remember(View.stop_steps, keys.STOP_STEPS, _STEPS)
        self._remember(View.loops, keys.PLAY_LOOPS)
        self._remember(View.denoises, keys.DENOISES)
        self._remember(View.play_speed, keys.PLAY_SPEED, PLAY_SPEEDS)
        self._remember(View.proof_order, keys.PROOF_ORDER, tuple(ORDERS))

    def _remember(self, field: Field[Any], setting: Setting[Any], among: Sequence[object] = ()) -> None:
        """Take a field's first value from a setting, if it is among these, and keep it there."""
        kept = self._settings.get(setting)
        if kept in among or not among:
            self.values.set(field.to(kept))
        self.values.watch({field}, lambda: self._settings.put(setting, self.values[field]))
