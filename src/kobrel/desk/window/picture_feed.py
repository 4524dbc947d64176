"""Keeps the picture up to date: which one is asked for, when, and which of those that came is shown."""

import time
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer
from PySide6.QtGui import QImage

from kobrel.desk.background.drawing import Drawing
from kobrel.desk.background.playback import Playback
from kobrel.desk.background.player import Player
from kobrel.desk.toolkit.gesture import drop_gestures
from kobrel.desk.toolkit.images import to_image
from kobrel.desk.views.shots import THUMBNAIL
from kobrel.desk.window.body import Body
from kobrel.memo import Changed
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME
from kobrel.session.session import Session
from kobrel.session.view import View

PASSES = 64
_SUCCESSION_S, _REST_MS, _SKETCH_MS = 0.12, 160, 1200


class PictureFeed(QObject):
    """Asks for pictures of the session and shows them in the views of a body."""

    def __init__(
        self,
        session: Session,
        drawing: Drawing,
        playback: Playback,
        player: Player,
        body: Body,
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self._session, self._drawing, self._screening = session, drawing, playback
        self._player, self._body = player, body
        self._latest: QImage | None = None
        self._flip: QImage | None = None
        self._flipped = False
        self._moved = Changed()
        self._moved_at = 0.0
        self._asking = self._timer(0, self.ask)
        self._resting = self._timer(_REST_MS, self.ask)
        self._sketching = self._timer(_SKETCH_MS, self._sketch)
        session.watch(
            (*AT_FRAME, View.defocus_everything, View.throw_px, View.file_as_it_is, View.denoises),
            self._asking.start,
        )
        session.watch({Document.dragging}, self._end_drag)
        session.watch({View.playing}, self._show_playing)
        session.watch((Document.plan, Document.stage), self._sketching.start)
        body.picture.resized.connect(self._asking.start)
        playback.changed.connect(self._show_held)
        drawing.drawn.connect(self._show_drawn)
        drawing.looked.connect(self._show_spot)
        body.picture.loupe.moved.connect(self._look)
        session.watch(AT_FRAME, self._look_again)
        drawing.sketched.connect(self._show_sketch)
        drawing.noted.connect(body.picture.show_status)
        drawing.ready.connect(self._asking.start)
        drawing.ready.connect(self._sketch)

    def _timer(self, delay_ms: int, work: Callable[[], None]) -> QTimer:
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.setInterval(delay_ms)
        timer.timeout.connect(work)
        return timer

    def begin_anew(self) -> None:
        """Another plan is shown: no picture and no gesture counts any more."""
        drop_gestures(self._body.window())
        self._drawing.forget()
        self._body.shots.forget()
        self._body.picture.forget_image()
        self._flip = self._latest = None
        self._asking.start()
        self._sketch()

    def ask(self) -> None:
        """Ask for the picture of the frame; a preview while it changes quickly."""
        if self._plays_from_memory:
            self._show_held()
            return
        preview = self._session.dragging or self._session.view.playing
        if not preview and self._in_quick_succession():
            preview = True
            self._resting.start()
        self._drawing.ask(self._body.picture.picture_size(), preview, PASSES)

    def _in_quick_succession(self) -> bool:
        """Whether plan or frame changed twice within a moment: steps that count as one movement."""
        when = time.monotonic()
        if not self._moved(self._session.plan, self._session.frame):
            return False
        since, self._moved_at = when - self._moved_at, when
        return since < _SUCCESSION_S

    def _end_drag(self) -> None:
        if not self._session.dragging:
            self._asking.start()

    def _sketch(self) -> None:
        self._drawing.ask_thumbnails((2 * THUMBNAIL[0], 2 * THUMBNAIL[1]))

    def _show_drawn(self, drawn: object) -> None:
        from kobrel.picture.service import EXACT_FROM, Drawn

        assert isinstance(drawn, Drawn)
        if drawn.request.stage.family is not self._session.stage.family:
            return
        image = to_image(drawn.pixels)
        if drawn.passes == 0:
            status = "quick"
        elif drawn.request.finished is not None:
            status = "the file as it is" if drawn.request.finished.plain else "rendered image"
            shown = drawn.request.finished.stands_for(drawn.request.frame)
            status += "" if shown == drawn.request.frame else f"   frame {shown} (missing)"
        else:
            kind = "denoised" if drawn.denoised else "exact" if drawn.passes >= EXACT_FROM else "settling"
            status = f"{drawn.passes} / {drawn.request.passes} samples   {kind}"
        if drawn.passes == drawn.request.passes:
            self._flip, self._latest = self._latest, image
        self._flipped = False
        self._body.picture.show_image(image, status)
        self._body.barrel.show_depth(drawn.depth, drawn.sharp_part)

    def _look(self) -> None:
        """Have the spot under the loupe drawn."""
        camera = self._session.camera
        self._drawing.look(self._body.picture.loupe.camera(camera) if camera is not None else None)

    def _look_again(self) -> None:
        if self._body.picture.loupe.held:
            self._look()

    def _show_spot(self, drawn: object) -> None:
        from kobrel.picture.service import Drawn

        assert isinstance(drawn, Drawn)
        self._body.picture.loupe.show(to_image(drawn.pixels), f"pass {drawn.passes}", drawn.request.camera)
        self._body.picture.update()

    def _show_sketch(self, shot_name: str, drawn: object) -> None:
        from kobrel.picture.service import Drawn

        assert isinstance(drawn, Drawn)
        self._body.shots.show_thumbnail(shot_name, to_image(drawn.pixels))

    def flip(self) -> None:
        """Show the last rendered image instead of this one, and back."""
        if self._flip is None or self._latest is None:
            self._session.say("No previous picture.")
            return
        self._flipped = not self._flipped
        image = self._flip if self._flipped else self._latest
        self._body.picture.show_image(image, "the last picture" if self._flipped else "this picture")

    @property
    def _plays_from_memory(self) -> bool:
        """Whether frames that are held are shown; a pull that is just performed is not among them."""
        return self._session.view.playing and self._screening.on and not self._session.dragging

    def _show_held(self) -> None:
        """While the shot plays from memory, show the frame that is there; until it is, the last stays."""
        if self._plays_from_memory:
            image = self._screening.image(self._session.frame)
            status = f"from memory   {self._player.told}"
            self._body.pair.show_status(status)
            if image is not None:
                self._body.picture.show_image(image, status)

    def _show_playing(self) -> None:
        if not self._session.view.playing:
            self._body.pair.show_status("")
            self._asking.start()
