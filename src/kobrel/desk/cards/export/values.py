"""Values: the shot's values at the frame in each renderer's convention, to be copied."""

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.export.custom_values import CustomValuesDialog
from kobrel.desk.cards.export.value_blocks import ValueBlock
from kobrel.desk.cards.widgets import choice
from kobrel.plan.values.lost import losses
from kobrel.plan.values.own import Family, as_block
from kobrel.plan.values.render_camera import RenderCamera, render_camera
from kobrel.session import settings
from kobrel.session.commands import exporting
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session
from kobrel.session.view import View


@guarded
class ValuesPage(ShotCard):
    """Values: the shot's values at the frame in each renderer's convention, to be copied."""

    name = "Values"
    purpose = "The shot's values in each renderer's convention"
    is_page = True
    depends = (*AT_FRAME, Document.dragging, View.custom_values)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        exporting.load_custom_values(session)
        kept = session.settings
        units: list[tuple[str, object]] = [(text, key) for key, text in exporting.UNITS.items()]
        unit = choice("Unit of values", units, "Units for all lengths")
        self.unit = self.bind(
            unit,
            lambda _now: kept.get(settings.VALUES_UNIT),
            lambda value: kept.put(settings.VALUES_UNIT, value),
        )
        self.row("Units", unit)
        self.blocks: dict[str, ValueBlock] = {}
        opened: list[str] = kept.get(settings.VALUES_OPEN)
        self._opened = set(opened)
        self._first = self.column.count()
        self.copy_text, self.copy_table, self.own = self.buttons(
            ("Copy all", "All values as lines", lambda: self._copy(table=False)),
            ("Copy as table", "All values as a table with tabs", lambda: self._copy(table=True)),
            ("Custom…", "Your own values: names, quantities, units, scale, sign", self.show_own),
        )  # fmt: skip
        self.dialog: CustomValuesDialog | None = None
        self.column.addStretch(1)

    def show_more(self, subject: Now) -> None:
        wanted = exporting.families(self.session, subject)
        names = [as_block(family).key for family in wanted]
        for key in [key for key in self.blocks if key not in names]:
            self.blocks.pop(key).deleteLater()
        whole = render_camera(subject.shot, subject.survey)
        for place, family in enumerate(wanted):
            block = self._block(family, self._first + place)
            if block.is_open:
                self._show(block, family, subject, whole)

    def _block(self, family: Family, place: int) -> ValueBlock:
        which = as_block(family)
        known = self.blocks.get(which.key)
        if known is not None:
            known.head.setText(which.title)
            return known
        block = self.blocks[which.key] = ValueBlock(self.session, which.title, which.key in self._opened)
        block.folded.connect(lambda on, key=which.key: self._fold(key, on))
        block.copied.connect(lambda key=which.key: self._copy_block(key))
        self.column.insertWidget(place, block)
        return block

    def _show(self, block: ValueBlock, family: Family, now: Now, whole: RenderCamera) -> None:
        which, moving = as_block(family), self.session.dragging or self.session.view.playing
        lost = [] if moving else losses(which, now.plan, now.shot, now.survey, now.row, whole)
        block.show_conventions(exporting.values_now(self.session, now, family, whole), lost)

    def _fold(self, key: str, opened: bool) -> None:
        (self._opened.add if opened else self._opened.discard)(key)
        self.session.settings.put(settings.VALUES_OPEN, sorted(self._opened))
        self.refresh()

    def _copy_block(self, key: str) -> None:
        now = self.session.now
        if now is not None:
            which = [
                family for family in exporting.families(self.session, now) if as_block(family).key == key
            ]
            QGuiApplication.clipboard().setText(exporting.as_text(self.session, now, which))
            self.session.say(f"Copied: {as_block(which[0]).title}")

    def _copy(self, table: bool) -> None:
        now = self.session.now
        if now is not None:
            which = exporting.families(self.session, now)
            make = exporting.as_table if table else exporting.as_text
            QGuiApplication.clipboard().setText(make(self.session, now, which))
            self.session.say(f"Values of {len(which)} conventions at frame {now.frame} copied")

    def show_own(self) -> None:
        """Make or change custom values."""
        self.dialog = CustomValuesDialog(self.session, self.window())
        self.dialog.open()

    def hideEvent(self, event: object) -> None:
        self.session.view.pointed_value = ""
        super().hideEvent(event)
