"""Cutting on the Block card: what is lifted from a picture, its edge, what is behind and beyond."""

from functools import partial

from PySide6.QtWidgets import QFileDialog, QGridLayout, QListWidget, QPushButton, QWidget

from kobrel.desk.cards.base import Card, SessionCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import narrow, number_field
from kobrel.desk.toolkit.words import plain
from kobrel.plan.pictures.plates import BrightnessRange, ColourRange, Cut, DepthRange, Fill, Plate
from kobrel.plan.plates.edges import edge_report
from kobrel.session.commands.plates import cutting, placing
from kobrel.session.document import Document
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import CutTool

_TOOLS: tuple[tuple[CutTool, str, str], ...] = (
    ("points", "Points", "Bézier outline"),
    ("freehand", "Freehand", "Freehand lasso"),
    ("edge", "Along edges", "Snaps to edges between clicks"),
    ("rectangle", "Rectangle", "From corner to corner"), ("ellipse", "Ellipse", "Within a rectangle"),
    ("colour", "By colour", "Click a colour in the picture"),
)  # fmt: skip
PICTURES = "Pictures (*.png *.tif *.tiff *.exr *.jpg)"


class CutoutPage(SessionCard):
    """Cutting on the Block card: what is lifted from a picture, its edge, what is behind and beyond."""

    name = "Cut-out"
    purpose = "Cut an object out of a plate, and fill the hole"
    is_page = True
    depends = (
        Document.plan,
        Document.stage,
        Document.frame,
        Document.shot_index,
        Selection.item,
        Selection.tool,
        Selection.cut_mode,
    )

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.empty = self.note("Select a plate: click it in Picture, or in the list.")
        self.show_if(self.empty, lambda session: placing.chosen(session) is None, row=False)
        self.body = _Body(session)
        self.show_if(self.body, lambda session: placing.chosen(session) is not None, row=False)
        self.column.addWidget(self.body)
        self.column.addStretch(1)


class _Body(Card[Plate]):
    """What the page shows of the chosen plate."""

    is_page = True
    depends = CutoutPage.depends

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.heading = self.note()
        self.mode = choice(
            "Drawn shape", [("New plate", "lift"), ("Add", "add"),
                        ("Subtract", "take away")],
            "Use of the drawn shape", 190,
        )  # fmt: skip
        self.bind(self.mode, lambda _plate: session.selection.cut_mode, session.setter(Selection.cut_mode))
        self.row("A shape", self.mode)
        grid = QGridLayout()
        grid.setSpacing(4)
        self.tools: dict[CutTool, QPushButton] = {}
        for index, (tool, name, hint) in enumerate(_TOOLS):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setToolTip(plain(f"{hint}. Draw it in Picture"))
            button.setStyleSheet("padding: 3px 4px;")
            self.bind(button, partial(self._in_hand, tool), partial(self._draw_with, tool))
            grid.addWidget(button, index // 3, index % 3)
            self.tools[tool] = button
        self.column.addLayout(grid)
        self.buttons(
            (
                "Brightness",
                "By brightness range",
                lambda: cutting.take_brightness(session),
            ),
            ("Depth…", "By a depth pass, between two values", self._ask_depth),
            ("Mask…", "From a mask image (white = keep)", self._ask_mask),
            ("Alpha", "Use the image's alpha", lambda: cutting.take_alpha(session)),
        )
        self.shapes = QListWidget()
        self.shapes.setAccessibleName("Shapes of the cut")
        self.shapes.setToolTip("Shapes in order. Drag outline points in Picture")
        self.shapes.setFixedHeight(72)
        self.shapes.currentRowChanged.connect(lambda _row: self.refresh())
        self.column.addWidget(self.shapes)
        self.show_if(self.shapes, lambda plate: plate.cut is not None, row=False)
        (self.drop,) = self.buttons(("Delete shape", "Delete selected shape", self._drop))
        self.show_if(self.drop, lambda plate: plate.cut is not None, row=False)
        self.low, self.high = (
            narrow(number_field(name, "ratio", 0.02, 0.0, 1.0, about=f"{end} brightness that is cut out"))
            for name, end in (("From", "Lowest"), ("To", "Highest"))
        )
        self.soft = narrow(
            number_field(
                "Softness", "ratio", 0.02, 0.0, 1.0, about="Softness of the ends of the brightness range"
            )
        )
        self.bind(self.low, lambda plate: self._part(plate, "low"), partial(self._set_part, "low"))
        self.bind(self.high, lambda plate: self._part(plate, "high"), partial(self._set_part, "high"))
        self.bind(self.soft, lambda plate: self._part(plate, "soft"), partial(self._set_part, "soft"))
        self.row("Range", self.low, self.high, self.soft)
        self.show_if(self.low, lambda plate: self._range(plate) is not None)
        self.grow, self.smooth, self.feather = (
            narrow(number_field(name, "px", 1.0, low, 1000.0, about=about))
            for name, low, about in (
                ("Expand", -1000.0, "Expands the cut-out; negative shrinks it"),
                ("Round", 0.0, "Rounds the corners of the cut-out"),
                ("Feather", 0.0, "Softens the edge of the cut-out"),
            )
        )
        for field, name in ((self.grow, "grow_px"), (self.smooth, "smooth_px"), (self.feather, "feather_px")):
            self.bind(
                field, partial(_edge_part, name), partial(self._change_edge, field.accessibleName(), name)
            )
        self.row("Expand · round", self.grow, self.smooth)
        self.row("Feather", self.feather)
        for field in (self.grow, self.feather):
            self.show_if(field, lambda plate: plate.cut is not None)
        self.line()
        self.fill = choice(
            "Fill behind", [("Smooth blend", "diffused"), ("Mirrored edges", "mirrored"),
                          ("Texture patches", "patches")],
            "How the hole behind a cut-out is filled", 190,
        )  # fmt: skip
        self.bind(self.fill, lambda _plate: self._fill().kind, lambda kind: cutting.set_fill(session, kind))
        self.row("Fill behind", self.fill)
        self.fill_grow = narrow(
            number_field(
                "Filled beyond the edge",
                "px",
                1.0,
                0.0,
                1000.0,
                about="How far the fill behind the cut-out reaches under its edge",
            )
        )
        self.bind(
            self.fill_grow,
            lambda _plate: self._fill().grow_px,
            lambda px: cutting.set_fill(session, grow_px=px),
        )
        self.row("Fill overlap", self.fill_grow)
        for widget in (self.fill, self.fill_grow):
            self.show_if(widget, lambda _plate: cutting.filled_plate(session) is not None)
        self.line()
        self.beyond = choice(
            "Edge extension", [("Nothing", "nothing"), ("Mirrored", "mirrored"), ("Stretched", "stretched"),
                                 ("Repeated", "repeated")],
            "What shows beyond the plate's edges", 110,
        )  # fmt: skip
        self.bind(
            self.beyond, lambda plate: plate.beyond,
            lambda kind: placing.change(session, "Edges", beyond=kind),
        )  # fmt: skip
        self.beyond_part = narrow(
            number_field(
                "Beyond its edges, of its size",
                "ratio",
                0.05,
                0.0,
                4.0,
                about="How far the plate's edges are extended, as a part of its size",
            )
        )
        self.bind(
            self.beyond_part, lambda plate: plate.beyond_part,
            lambda part: placing.change(session, "Edges", beyond_part=part),
        )  # fmt: skip
        self.enable_if(self.beyond_part, lambda plate: plate.beyond != "nothing")
        self.row("Edge extension", self.beyond_part, self.beyond)
        self.told = self.note()
        (self.extend,) = self.buttons(
            ("Extend to fit shot", "Extend edges so none show in this shot", self._extend)
        )

    def subject(self) -> Plate | None:
        """See :class:`Card`."""
        return placing.chosen(self.session)

    def _in_hand(self, tool: CutTool, _plate: Plate) -> bool:
        return self.session.selection.tool is not None and self.session.selection.tool.cut == tool

    def _draw_with(self, tool: CutTool, on: bool) -> None:
        if on:
            cutting.begin(self.session, tool)
        else:
            self.session.selection.tool = None

    def _ask_depth(self) -> None:
        path, _kind = QFileDialog.getOpenFileName(self, "A depth pass of the plate", "", PICTURES)
        if path:
            cutting.take_depth(self.session, path)

    def _ask_mask(self) -> None:
        path, _kind = QFileDialog.getOpenFileName(self, "A mask: white is what stays", "", PICTURES)
        if path:
            cutting.take_mask(self.session, path)

    def _drop(self) -> None:
        cutting.remove_shape(self.session, max(self.shapes.currentRow(), 0))

    def _range(self, plate: Plate) -> ColourRange | BrightnessRange | DepthRange | None:
        shapes = plate.cut.shapes if plate.cut else ()
        row = self.shapes.currentRow()
        shape = shapes[row] if 0 <= row < len(shapes) else shapes[-1] if shapes else None
        return shape if isinstance(shape, ColourRange | BrightnessRange | DepthRange) else None

    def _part(self, plate: Plate, name: str) -> float:
        shape = self._range(plate)
        if isinstance(shape, ColourRange):
            return {"low": 0.0, "high": shape.reach, "soft": shape.soft}[name]
        return 0.0 if shape is None else float(getattr(shape, name))

    def _set_part(self, name: str, value: float) -> None:
        plate = self.subject()
        shape = self._range(plate) if plate is not None else None
        if plate is None or plate.cut is None or shape is None:
            return
        if isinstance(shape, ColourRange):
            if name == "low":
                return
            name = "reach" if name == "high" else name
        index = plate.cut.shapes.index(shape)
        cutting.change_shape(self.session, index, shape.replace(**{name: value}))

    def _change_edge(self, what: str, name: str, px: float) -> None:
        cutting.change_edge(self.session, what, **{name: px})

    def _fill(self) -> Fill:
        plate = cutting.filled_plate(self.session)
        return (plate.fill if plate is not None else None) or Fill()

    def _extend(self) -> None:
        plate, now = self.subject(), self.session.now
        if plate is None or now is None:
            return
        report = edge_report(now.plan, plate, now.stage, now.survey.camera, now.survey.frames)
        part = min(round(report.needed * 1.02 + 0.005, 2), 4.0)
        kind = "mirrored" if plate.beyond == "nothing" else plate.beyond
        placing.change(self.session, "Edges", beyond=kind, beyond_part=part)

    def show_more(self, subject: Plate) -> None:
        source = cutting.lifted_from(self.session.plan, subject)
        self.heading.setText(f"{subject.name}, cut out of {source.name}." if source else f"{subject.name}.")
        self._show_shapes(subject.cut)
        now = self.session.now
        text = ""
        shows = False
        if now is not None:
            report = edge_report(now.plan, subject, now.stage, now.survey.camera, now.survey.frames)
            text, shows = report.words, report.needed > 0
        self.told.setText(text)
        self.extend.setVisible(shows)

    def _show_shapes(self, cut: Cut | None) -> None:
        words = [
            f"{'minus ' if shape.takes_away else ''}{cutting.SHAPE_NAMES[shape.kind]}"
            for shape in (cut.shapes if cut else ())
        ]
        if [self.shapes.item(row).text() for row in range(self.shapes.count())] != words:
            row = self.shapes.currentRow()
            self.shapes.blockSignals(True)
            self.shapes.clear()
            self.shapes.addItems(words)
            self.shapes.setCurrentRow(min(max(row, 0), len(words) - 1))
            self.shapes.blockSignals(False)


def _edge_part(name: str, plate: Plate) -> float:
    return float(getattr(plate.cut, name)) if plate.cut else 0.0
