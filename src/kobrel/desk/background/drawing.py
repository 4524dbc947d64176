"""The drawing service as a Qt object: pictures come as signals in the window's thread."""

import contextlib
import threading
import time
from collections import deque
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from kobrel.errors import PlanError
from kobrel.memo import Changed
from kobrel.plan.measure.camera import Camera, camera_at
from kobrel.plan.model import Shot
from kobrel.plan.pictures.rendered import RenderedImage
from kobrel.session.session import Session
from kobrel.turns import TURNS

if TYPE_CHECKING:
    from kobrel.picture.defocus.source import FrameSource
    from kobrel.picture.service import DrawingService, Spare


SPOT_PASSES = 256
_SKETCH_S, _BETWEEN_MS = 0.02, 20


class Drawing(QObject):
    """Asks for the session's picture and its shots' thumbnails.

    Signals
    -------
    drawn : a :class:`kobrel.picture.service.Drawn`
    looked : a :class:`kobrel.picture.service.Drawn` of the spot under the loupe
    taken : a :class:`kobrel.picture.service.Taken`, the picture in hand in linear light
    sketched : a shot's name and its small picture
    noted : what takes long, or ""
    failed : what went wrong
    ready : pictures can be asked for
    """

    drawn = Signal(object)
    looked = Signal(object)
    taken = Signal(object)
    sketched = Signal(str, object)
    noted = Signal(str)
    failed = Signal(str)
    ready = Signal()
    _turn = Signal(object)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._service: DrawingService | None = None
        self._closed = False
        self._sources: dict[tuple[RenderedImage, bool], FrameSource] = {}
        self._changed = Changed()
        self._sketches: dict[str, Changed] = {}
        self._room = (0, 0)
        self._unsketched = deque[Shot]()
        self._sketching = QTimer(self)
        self._sketching.setInterval(_BETWEEN_MS)
        self._sketching.timeout.connect(self._sketch_some)

    def start(self) -> None:
        """Load the tracer beside the window, which opens without waiting for it and comes first from now
        on.
        """
        self._turn.connect(self._give_turn)
        TURNS.ask(self._ask_turn)
        threading.Thread(target=self._import, name="kobrel-import", daemon=True).start()

    def _ask_turn(self, given: Callable[[], object]) -> None:
        with contextlib.suppress(RuntimeError):  # the window is gone
            self._turn.emit(given)

    def _give_turn(self, given: Callable[[], object]) -> None:
        given()

    def _import(self) -> None:
        self.noted.emit("Preparing render…")
        from kobrel.picture import service

        if self._closed:
            return
        self._service = service.DrawingService(self.drawn.emit, self.noted.emit, self.failed.emit)
        self.ready.emit()

    def ask(self, size: tuple[int, int], preview: bool, passes: int = 64) -> None:
        """Want the picture of the session's frame, unless it is the one wanted already."""
        session, camera, service = self._session, self._session.camera, self._service
        if camera is None or service is None:
            return
        from kobrel.picture.defocus_everything import defocus_everything
        from kobrel.picture.service import Request

        defocus_everything_px = session.defocus_everything_px
        parts = (
            session.parts, session.walk, session.frame, size, preview, passes, defocus_everything_px,
            session.view.file_as_it_is, session.view.denoises,
        )  # fmt: skip
        if not self._changed(parts):
            return
        seen = (
            defocus_everything(camera.whole, defocus_everything_px) if defocus_everything_px else camera.whole
        )
        plan = session.plan
        request = Request(
            session.stage, seen, session.frame, plan.light, *size, preview, passes, plan.finish,
            None if session.walk is not None else self.finished_of(session.shot), session.view.denoises,
        )  # fmt: skip
        service.ask(request)

    def finished_of(self, shot: Shot | None) -> "FrameSource | None":
        """The rendered image that a shot is blurred on, if any."""
        found = self._session.plan.finished_of(shot) if shot is not None else None
        if found is None:
            return None
        key = found, self._session.view.file_as_it_is
        if key not in self._sources:
            from kobrel.picture.defocus.source import FrameSource

            self._sources = {key: FrameSource(*key)}
        return self._sources[key]

    def look(self, camera: Camera | None) -> None:
        """Want what a camera sees of a spot of the picture refined at once, or nothing any more."""
        session, service = self._session, self._service
        if service is None:
            return
        if camera is None:
            service.look(None)
            return
        from kobrel.picture.service import Request

        size = camera.width_px, camera.height_px
        plan = session.plan
        request = Request(session.stage, camera, session.frame, plan.light, *size, passes=SPOT_PASSES)
        service.look(request, self.looked.emit)

    def take(self) -> bool:
        """Want the picture in hand in linear light; False where none can be made yet."""
        if self._service is not None:
            self._service.take(self.taken.emit)
        return self._service is not None

    def fill(self, source: "Callable[[], Spare | None] | None") -> None:
        """Use time to spare for pictures asked for one by one."""
        if self._service is not None:
            self._service.fill(source)

    def ask_thumbnails(self, room: tuple[int, int]) -> None:
        """Want small pictures of the shots that have changed, that fill a room in pixels."""
        session = self._session
        if self._service is None:
            return
        self._room = room
        self._unsketched = deque(session.plan.shots)
        self._sketching.start()

    def _sketch_some(self) -> None:
        """Want some of the small pictures; the others follow soon, so that the window does not wait."""
        until = time.monotonic() + _SKETCH_S
        while self._unsketched and time.monotonic() < until:
            self._sketch(self._unsketched.popleft())
        if not self._unsketched:
            self._sketching.stop()

    def _sketch(self, shot: Shot) -> None:
        session, service = self._session, self._service
        changed = self._sketches.setdefault(shot.name, Changed())
        stage = session.stage.of_shot(shot.name)
        if service is None or not changed(shot, session.plan.light, session.plan.subjects, stage):
            return
        from kobrel.picture.service import Request

        middle = (shot.first + shot.last) // 2
        try:
            camera = camera_at(session.plan, shot, middle, stage)
        except PlanError:
            return
        part = min(self._room[0], self._room[1] * camera.aspect)
        size = max(8, round(part)), max(8, round(part / camera.aspect))
        request = Request(stage, camera, middle, session.plan.light, *size, finished=self.finished_of(shot))
        service.sketch(request, partial(self.sketched.emit, shot.name))

    def forget(self) -> None:
        """Another plan is shown: nothing drawn counts any more."""
        self._changed.forget()
        self._sketches.clear()
        self._unsketched.clear()
        if self._service is not None:
            self._service.drop_sketches()

    def close(self) -> None:
        """Stop drawing, for good."""
        self._closed = True
        TURNS.leave(self._ask_turn)
        if self._service is not None:
            self._service.close()
            self._service = None
