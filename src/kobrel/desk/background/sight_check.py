"""Follows the shot's lines of sight beside the window, whenever nothing changes for a moment."""

from PySide6.QtCore import QObject, QTimer

from kobrel.desk.background.jobs import Job
from kobrel.memo import Parts, same
from kobrel.plan.check import unit_doubts, warnings_from
from kobrel.plan.measure.arrival import scene_names, shot_doubts
from kobrel.plan.measure.occlusion import sightlines
from kobrel.plan.measure.survey import survey
from kobrel.session.document import Document
from kobrel.session.numbers import SightReport
from kobrel.session.session import Session
from kobrel.stage.scene import Progress

_REST_MS = 600


class SightCheck(QObject):
    """Keeps the session's sight report up to date, a little behind."""

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._job: Job | None = None
        self._for: Parts | None = None
        self._allowed = False
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST_MS)
        self._rest.timeout.connect(self._begin)
        session.watch((Document.plan, Document.shot_index, Document.stage, Document.dragging), self._wait)

    def allow(self) -> None:
        """The tracer is there: from now on there may be work for it."""
        self._allowed = True
        self._wait()

    def _wait(self) -> None:
        if self._for is None or not same(self._for, self._session.parts):
            self._rest.start()

    def _begin(self) -> None:
        session, shot = self._session, self._session.shot
        if not self._allowed or shot is None:
            return
        if session.dragging or not session.stage.built:
            self._rest.start()
            return
        if self._job is not None:
            self._job.cancel()
        parts, plan, stage = session.parts, session.plan, session.stage
        self._for = parts

        def look(progress: Progress) -> object:
            lines = sightlines(plan, shot, stage, progress)
            doubts = [doubt for name in scene_names(stage) for doubt in unit_doubts(name, stage)]
            doubts += shot_doubts(plan, shot, stage)
            numbers = survey(plan, shot, stage)
            return SightReport(lines, tuple(warnings_from(plan, shot, numbers, lines)), tuple(doubts))

        job = self._job = Job(look, self)
        job.done.connect(lambda found: self._take(parts, found))
        for ended in (job.done, job.failed, job.cancelled):
            ended.connect(lambda *_: self._end(job))
        job.start()

    def _end(self, job: Job) -> None:
        if self._job is job:
            self._job = None
        job.deleteLater()

    def _take(self, parts: Parts, found: object) -> None:
        assert isinstance(found, SightReport)
        self._session.sight = parts, found

    def close(self) -> None:
        """Stop looking."""
        self._allowed = False
        self._rest.stop()
        if self._job is not None:
            self._job.cancel()
            self._job.wait(2.0)
