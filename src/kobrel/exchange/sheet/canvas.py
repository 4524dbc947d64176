"""Drawing for paper and for the screen: lines, areas, words and pictures in millimetres.

Everything on a sheet is drawn through :class:`Canvas`, so that paper (PDF) and page (SVG within HTML) show
the same. There are no colours: shades, widths, dashes and hatches tell things apart, in the dark and on a
black and white printer.
"""

import base64
import html
import io
from abc import ABC, abstractmethod
from collections.abc import Sequence
from functools import cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFont

from kobrel.exchange.writing.whole import FONTS

Shade = Literal["ink", "quiet", "faint", "wash", "paper", "none"]
Anchor = Literal["left", "centre", "right"]
Point = tuple[float, float]
PT_MM = 25.4 / 72.0
GREYS: dict[Shade, int] = {"ink": 0, "quiet": 70, "faint": 170, "wash": 226, "paper": 255}
_JPEG_QUALITY = 88


@cache
def _font(bold: bool) -> ImageFont.FreeTypeFont:
    return ImageFont.truetype(str(FONTS / f"B612-{'Bold' if bold else 'Regular'}.otf"), 200)


def text_width(text: str, points: float, bold: bool = False) -> float:
    """Width of a line of type, mm."""
    return float(_font(bold).getlength(text)) / 200.0 * points * PT_MM


def fitted(text: str, points: float, width: float, bold: bool = False) -> str:
    """A line of type, cut off with … where it is wider than there is room."""
    if text_width(text, points, bold) <= width:
        return text
    while text and text_width(f"{text}…", points, bold) > width:
        text = text[:-1]
    return f"{text.rstrip()}…"


def jpeg(pixels: NDArray[np.uint8]) -> bytes:
    """A picture, sRGB bytes (H, W, 3), small enough for a sheet."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "JPEG", quality=_JPEG_QUALITY)
    return out.getvalue()


class Canvas(ABC):
    """Somewhere to draw; millimetres from the left and from the top."""

    @abstractmethod
    def line(
        self, points: Sequence[Point], width: float = 0.2, shade: Shade = "ink", dash: float = 0.0
    ) -> None:
        """A line through points; dashes and gaps are `dash` long."""

    @abstractmethod
    def area(self, points: Sequence[Point], fill: Shade, width: float = 0.0, shade: Shade = "ink") -> None:
        """A filled outline, with a line about it where it has a width."""

    @abstractmethod
    def ring(
        self,
        x: float,
        y: float,
        radius: float,
        fill: Shade = "none",
        width: float = 0.2,
        shade: Shade = "ink",
    ) -> None:
        """A circle."""

    @abstractmethod
    def text(
        self,
        x: float,
        y: float,
        words: str,
        points: float = 8.0,
        bold: bool = False,
        shade: Shade = "ink",
        anchor: Anchor = "left",
        turned: bool = False,
    ) -> None:
        """A line of type on its base line; turned reads upward."""

    @abstractmethod
    def picture(self, x: float, y: float, width: float, height: float, content: bytes) -> None:
        """A JPEG picture."""

    def box(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        fill: Shade = "none",
        line: float = 0.2,
        shade: Shade = "ink",
    ) -> None:
        """A rectangle."""
        corners = [(x, y), (x + width, y), (x + width, y + height), (x, y + height)]
        if fill != "none":
            self.area(corners, fill)
        if line:
            self.line([*corners, corners[0]], line, shade)

    def tag(self, x: float, y: float, number: int, radius: float = 1.9) -> None:
        """A subject's number in a ring."""
        self.ring(x, y, radius, "paper", 0.3)
        points = 6.5 if number < 10 else 5.0
        self.text(x, y + points * PT_MM * 0.36, str(number), points, bold=True, anchor="centre")


class PdfCanvas(Canvas):
    """A page of a PDF; type and lines stay type and lines."""

    def __init__(self, pdf: Any) -> None:
        self._pdf = pdf

    def line(
        self, points: Sequence[Point], width: float = 0.2, shade: Shade = "ink", dash: float = 0.0
    ) -> None:
        """See :class:`Canvas`."""
        pdf = self._pdf
        pdf.set_draw_color(GREYS[shade])
        pdf.set_line_width(width)
        if dash:
            pdf.set_dash_pattern(dash, dash)
        pdf.polyline(list(points))
        if dash:
            pdf.set_dash_pattern()

    def area(self, points: Sequence[Point], fill: Shade, width: float = 0.0, shade: Shade = "ink") -> None:
        """See :class:`Canvas`."""
        pdf = self._pdf
        pdf.set_fill_color(GREYS[fill])
        pdf.set_draw_color(GREYS[shade])
        pdf.set_line_width(width or 0.1)
        pdf.polygon(list(points), style="DF" if width else "F")

    def ring(
        self,
        x: float,
        y: float,
        radius: float,
        fill: Shade = "none",
        width: float = 0.2,
        shade: Shade = "ink",
    ) -> None:
        """See :class:`Canvas`."""
        pdf = self._pdf
        pdf.set_draw_color(GREYS[shade])
        pdf.set_line_width(width)
        if fill != "none":
            pdf.set_fill_color(GREYS[fill])
        pdf.circle(x, y, radius, style="D" if fill == "none" else "DF")

    def text(
        self, x: float, y: float, words: str, points: float = 8.0, bold: bool = False,
        shade: Shade = "ink", anchor: Anchor = "left", turned: bool = False,
    ) -> None:  # fmt: skip
        """See :class:`Canvas`."""
        pdf = self._pdf
        pdf.set_font("B612", "B" if bold else "", points)
        pdf.set_text_color(GREYS[shade])
        back = {"left": 0.0, "centre": 0.5, "right": 1.0}[anchor] * text_width(words, points, bold)
        if turned:
            with pdf.rotation(90, x, y):
                pdf.text(x - back, y, words)
        else:
            pdf.text(x - back, y, words)

    def picture(self, x: float, y: float, width: float, height: float, content: bytes) -> None:
        """See :class:`Canvas`."""
        self._pdf.image(io.BytesIO(content), x, y, width, height)


class SvgCanvas(Canvas):
    """A drawing within a page of HTML; its shades are the page's classes."""

    def __init__(self, width: float, height: float) -> None:
        self._size, self._parts = (width, height), list[str]()

    def svg(self, label: str, shown_mm: float | None = None) -> str:
        """All of it.

        Parameters
        ----------
        label : what it shows, for assistive technology
        shown_mm : its true width; None is as wide as the page has room
        """
        width, height = self._size
        size = f' style="width:{shown_mm:.3f}mm"' if shown_mm else ""
        return (
            f'<svg viewBox="0 0 {width:.3f} {height:.3f}" role="img"{size} '
            f'aria-label="{html.escape(label)}">{"".join(self._parts)}</svg>'
        )

    def line(
        self, points: Sequence[Point], width: float = 0.2, shade: Shade = "ink", dash: float = 0.0
    ) -> None:
        """See :class:`Canvas`."""
        dashes = f' stroke-dasharray="{dash:g}"' if dash else ""
        self._parts.append(
            f'<polyline class="l-{shade}" stroke-width="{width:g}"{dashes} points="{_places(points)}"/>'
        )

    def area(self, points: Sequence[Point], fill: Shade, width: float = 0.0, shade: Shade = "ink") -> None:
        """See :class:`Canvas`."""
        edge = f' stroke-width="{width:g}"' if width else ' stroke-width="0"'
        kind = f"f-{fill} s-{shade}"
        self._parts.append(f'<polygon class="{kind}"{edge} points="{_places(points)}"/>')

    def ring(
        self,
        x: float,
        y: float,
        radius: float,
        fill: Shade = "none",
        width: float = 0.2,
        shade: Shade = "ink",
    ) -> None:
        """See :class:`Canvas`."""
        self._parts.append(
            f'<circle class="f-{fill} s-{shade}" stroke-width="{width:g}" cx="{x:.3f}" cy="{y:.3f}" '
            f'r="{radius:.3f}"/>'
        )

    def text(
        self, x: float, y: float, words: str, points: float = 8.0, bold: bool = False,
        shade: Shade = "ink", anchor: Anchor = "left", turned: bool = False,
    ) -> None:  # fmt: skip
        """See :class:`Canvas`."""
        where = {"left": "start", "centre": "middle", "right": "end"}[anchor]
        turn = f' transform="rotate(-90 {x:.3f} {y:.3f})"' if turned else ""
        weight = ' font-weight="bold"' if bold else ""
        self._parts.append(
            f'<text class="t-{shade}" x="{x:.3f}" y="{y:.3f}" font-size="{points * PT_MM:.3f}" '
            f'text-anchor="{where}"{weight}{turn}>{html.escape(words)}</text>'
        )

    def picture(self, x: float, y: float, width: float, height: float, content: bytes) -> None:
        """See :class:`Canvas`."""
        self._parts.append(
            f'<image x="{x:.3f}" y="{y:.3f}" width="{width:.3f}" height="{height:.3f}" '
            f'href="{data_url(content)}"/>'
        )


def data_url(content: bytes, kind: str = "image/jpeg") -> str:
    """Content that stands in a page itself."""
    return f"data:{kind};base64,{base64.b64encode(content).decode('ascii')}"


def _places(points: Sequence[Point]) -> str:
    return " ".join(f"{x:.3f},{y:.3f}" for x, y in points)
