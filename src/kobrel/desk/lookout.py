"""Follows the shot's lines of sight beside the window, whenever hands rest."""

from PySide6.QtCore import QObject, QTimer

from kobrel.desk.history import same
from kobrel.desk.jobs import Job
from kobrel.desk.session import Session
from kobrel.desk.work import Looked
from kobrel.plan.check import unit_doubts, warnings_from
from kobrel.plan.sight import sightlines
from kobrel.plan.stand_ins import number_of
from kobrel.plan.survey import survey
from kobrel.stage.scene import Progress

_REST_MS = 600


class Lookout(QObject):
    """Keeps ``session.looked`` up to date, a little behind."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._job: Job | None = None
        self._for: tuple[object, ...] | None = None
        self.may_look = False
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST_MS)
        self._rest.timeout.connect(self._begin)
        session.changed.connect(self._wait)

    def allow(self) -> None:
        """The tracer is there: from now on there may be work for it."""
        self.may_look = True
        self._wait()

    def _wait(self) -> None:
        if self._for is None or not same(self._for, self._session.work):
            self._rest.start()

    def _begin(self) -> None:
        session, shot = self._session, self._session.shot
        if not self.may_look or shot is None:
            return
        if session.dragging or not session.stage.built:
            self._rest.start()
            return
        if self._job is not None:
            self._job.cancel()
        work, plan, stage = session.work, session.plan, session.stage
        self._for = work

        def look(progress: Progress) -> object:
            sight = sightlines(plan, shot, stage, progress)
            files = [name for name in stage.scenes if number_of(name) is None]
            doubts = [doubt for name in files for doubt in unit_doubts(name, stage)]
            return Looked(sight, (*doubts, *warnings_from(plan, shot, survey(plan, shot, stage), sight)))

        job = self._job = Job(look, self)
        job.done.connect(lambda found: self._take(work, found))
        for ended in (job.done, job.failed, job.cancelled):
            ended.connect(lambda *_: self._end(job))
        job.start()

    def _end(self, job: Job) -> None:
        if self._job is job:
            self._job = None
        job.deleteLater()

    def _take(self, work: tuple[object, ...], found: object) -> None:
        assert isinstance(found, Looked)
        self._session.looked = (work, found)
        if same(work, self._session.work):
            self._session.changed.emit()

    def close(self) -> None:
        """Stop looking."""
        self.may_look = False
        self._rest.stop()
        if self._job is not None:
            self._job.cancel()
            self._job.wait(2.0)
