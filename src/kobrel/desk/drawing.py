"""The drawing service as a Qt object: pictures come as signals in the window's thread."""

import threading
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from kobrel.desk.session import Session
from kobrel.desk.shots import THUMBNAIL
from kobrel.errors import PlanError
from kobrel.plan.camera import camera_at

if TYPE_CHECKING:
    from kobrel.picture.service import DrawingService, Spare


def to_image(pixels: np.ndarray) -> QImage:
    """(H, W, 3) bytes as an image of its own."""
    height, width = pixels.shape[:2]
    whole = np.ascontiguousarray(pixels)
    return QImage(whole.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


class Drawing(QObject):
    """Asks for the session's picture and its shots' thumbnails.

    Signals
    -------
    drawn : a :class:`kobrel.picture.service.Drawn`
    sketched : a shot's name and its small picture
    noted : what takes long, or ""
    failed : what went wrong
    """

    drawn = Signal(object)
    sketched = Signal(str, object)
    noted = Signal(str)
    failed = Signal(str)
    ready = Signal()

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._service: DrawingService | None = None
        self._closed = False
        self._last: tuple[object, ...] = ()
        self._sketched: dict[str, tuple[object, ...]] = {}

    def start(self) -> None:
        """Load the tracer beside the window, which opens without waiting for it."""
        threading.Thread(target=self._import, name="kobrel-import", daemon=True).start()

    def _import(self) -> None:
        self.noted.emit("Preparing the picture …")
        from kobrel.picture import service

        if self._closed:
            return
        self._service = service.DrawingService(self.drawn.emit, self.noted.emit, self.failed.emit)
        self.ready.emit()

    def ask(self, size: tuple[int, int], hasty: bool, passes: int = 64) -> None:
        """Want the picture of the session's frame, unless it is the one wanted already."""
        session, camera, service = self._session, self._session.camera, self._service
        if camera is None or service is None:
            return
        from kobrel.picture.service import Request
        from kobrel.picture.thrown import thrown

        thrown_px = session.thrown_px
        wanted = (*session.work, session.walk, session.frame, size, hasty, passes, thrown_px)
        if len(self._last) == len(wanted) and all(
            a is b or a == b for a, b in zip(self._last, wanted, strict=True)
        ):
            return
        self._last = wanted
        seen = thrown(camera.whole, thrown_px) if thrown_px else camera.whole
        plan = session.plan
        request = Request(session.stage, seen, session.frame, plan.light, *size, hasty, passes, plan.finish)
        service.ask(request)

    def fill(self, source: "Callable[[], Spare | None] | None") -> None:
        """Use time to spare for pictures asked for one by one."""
        if self._service is not None:
            self._service.fill(source)

    def ask_thumbnails(self) -> None:
        """Want small pictures of the shots that have changed."""
        session, service = self._session, self._service
        if service is None:
            return
        from kobrel.picture.service import Request

        for shot in session.plan.shots:
            key: tuple[Any, ...] = (shot, session.plan.light, session.plan.subjects, session.stage)
            if self._sketched.get(shot.name) == key:
                continue
            self._sketched[shot.name] = key
            middle = (shot.first + shot.last) // 2
            try:
                camera = camera_at(session.plan, shot, middle, session.stage)
            except PlanError:
                continue
            part = min(2 * THUMBNAIL[0], 2 * THUMBNAIL[1] * camera.aspect)
            size = max(8, round(part)), max(8, round(part / camera.aspect))
            request = Request(session.stage, camera, middle, session.plan.light, *size)
            service.sketch(request, partial(self.sketched.emit, shot.name))

    def forget(self) -> None:
        """Another plan is shown: nothing drawn counts any more."""
        self._last, self._sketched = (), {}
        if self._service is not None:
            self._service.drop_sketches()

    def close(self) -> None:
        """Stop drawing, for good."""
        self._closed = True
        if self._service is not None:
            self._service.close()
            self._service = None
