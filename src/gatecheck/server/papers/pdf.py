"""A paper as PDF: fonts embedded, every script shaped, one page where one page is promised."""

from __future__ import annotations

import io
import logging
import warnings
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from pathlib import Path

import segno
from fpdf import FPDF
from fpdf.enums import XPos, YPos
from PIL import Image

from gatecheck.core.work.papers import Label, Paper, Section, Text
from gatecheck.core.work.shop import ShopPage
from gatecheck.server.papers.fonts import wide_faces

logging.getLogger("fontTools").setLevel(logging.ERROR)
logging.getLogger("fpdf").setLevel(logging.ERROR)

SIZES = (11.0, 10.0, 9.0, 8.0, 7.0, 6.0)
_MARGIN, _LABEL = 18.0, (90.0, 42.0)
_INK, _SOFT, _HAIR = (22, 33, 43), (90, 100, 108), (200, 204, 198)
_PICTURE_WIDTH = 80.0
Say = Callable[[Text], str]
Pictures = Callable[[str], bytes]


def print_paper(paper: Paper, shop: ShopPage, say: Say, picture: Pictures, fonts: Path | None) -> bytes:
    """The PDF. A single page is set smaller until it fits; pictures are left out of it last."""
    letters = frozenset("".join(_texts(paper, shop, say)))
    if paper.labels:
        return _labels(paper.labels, say, fonts, letters)
    for size in SIZES if paper.single else SIZES[1:2]:
        made = _Sheet(shop, say, picture, fonts, letters, size, with_pictures=not paper.single or size > SIZES[-1])
        made.lay(paper)
        if not paper.single or made.pdf.pages_count == 1 or size == SIZES[-1]:
            return _finished(made.pdf)
        _close_faces(made.pdf)
    raise AssertionError("no size was tried")


def _texts(paper: Paper, shop: ShopPage, say: Say) -> Iterator[str]:
    """Everything that will stand on it."""
    yield from (shop.name, *shop.address, "…", say(paper.title), *map(say, paper.head))
    for section in paper.sections:
        yield from (
            say(section.heading),
            *map(say, section.lines),
            *(say(cell) for row in section.rows for cell in row),
            *(p.says for p in section.pictures),
        )
    for label in paper.labels:
        yield from (label.number, say(label.what), *map(say, label.lines))


@lru_cache(8)
def _letters_of(face: Path) -> frozenset[str]:
    from fontTools.ttLib import TTFont  # type: ignore[import-untyped]

    with TTFont(face, lazy=True) as opened:
        return frozenset(map(chr, opened.getBestCmap()))


def _new(size: str | tuple[float, float], fonts: Path | None, letters: frozenset[str]) -> FPDF:
    pdf = FPDF(format=size)
    pdf.set_creator("Gate Check")
    faces = dict(wide_faces())
    own = {p.stem: p for p in sorted(fonts.glob("*.ttf"))} if fonts and fonts.is_dir() else {}
    text, bold = own.get("text", faces["wide"]), own.get("text-bold", faces["wide-bold"])
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        pdf.add_font("text", "", text)
        pdf.add_font("text", "B", bold)
        others = []
        letters -= _letters_of(text)
        for name, plain, strong in (
            ("ext", own.get("text-ext"), own.get("text-ext-bold")),
            ("wide", faces.get("wide"), faces.get("wide-bold")),
            ("every", own.get("every"), None),
        ):
            if plain and letters & _letters_of(plain):  # a face takes time to open: only those that are needed
                letters -= _letters_of(plain)
                pdf.add_font(name, "", plain)
                pdf.add_font(name, "B", strong or plain)
                others.append(name)
        if others:
            pdf.set_fallback_fonts(others, exact_match=False)
    pdf.set_text_shaping(True)
    pdf.set_text_color(*_INK)
    return pdf


class _Sheet:
    def __init__(
        self,
        shop: ShopPage,
        say: Say,
        picture: Pictures,
        fonts: Path | None,
        letters: frozenset[str],
        size: float,
        *,
        with_pictures: bool,
    ) -> None:
        self.shop, self.say, self.picture, self.size, self.with_pictures = shop, say, picture, size, with_pictures
        self.pdf = _new(shop.paper, fonts, letters)
        self.pdf.set_margins(_MARGIN, _MARGIN, _MARGIN)
        self.pdf.set_auto_page_break(True, _MARGIN)
        self.line = size * 0.52
        self.pdf.add_page()

    def lay(self, paper: Paper) -> None:
        pdf = self.pdf
        pdf.set_title(self.say(paper.title))
        self._write(self.shop.name, 1.3, bold=True)
        for line in self.shop.address:
            self._write(line, 0.85, soft=True)
        pdf.ln(self.line)
        self._write(self.say(paper.title), 1.9, bold=True)
        for head in paper.head:
            self._write(self.say(head), 0.95, soft=True)
        for section in paper.sections:
            self._section(section)

    def _section(self, section: Section) -> None:
        pdf = self.pdf
        pdf.ln(self.line * 0.7)
        self._write(self.say(section.heading), 1.15, bold=True)
        pdf.set_draw_color(*_HAIR)
        pdf.line(pdf.l_margin, pdf.get_y() + 0.4, pdf.w - pdf.r_margin, pdf.get_y() + 0.4)
        pdf.ln(1.4)
        for line in section.lines:
            self._write(self.say(line), 1.0)
        rows = [[self.say(cell) for cell in row] for row in section.rows]
        widths = self._widths(rows, money=section.strong)
        for place, row in enumerate(rows):
            self._row(row, widths, strong=section.strong and place == len(section.rows) - 1, money=section.strong)
        for shown in section.pictures if self.with_pictures else ():
            self._picture(shown.file, shown.says)

    def _write(self, text: str, scale: float, *, bold: bool = False, soft: bool = False) -> None:
        pdf = self.pdf
        pdf.set_font("text", "B" if bold else "", self.size * scale)
        pdf.set_text_color(*(_SOFT if soft else _INK))
        pdf.multi_cell(0, self.line * scale, text, align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)

    def _widths(self, rows: Sequence[Sequence[str]], *, money: bool) -> list[float]:
        """Every column but the last as wide as what stands in it, up to a share of the page."""
        pdf = self.pdf
        if not rows or money:
            return [pdf.epw - 45.0, 45.0]
        pdf.set_font("text", "", self.size * 0.95)
        columns = max(map(len, rows))
        widths = [
            min(max(pdf.get_string_width(row[c]) for row in rows if c < len(row)) + 6, pdf.epw * 0.42)
            for c in range(columns - 1)
        ]
        return [*widths, pdf.epw - sum(widths)]

    def _row(self, cells: Sequence[str], widths: Sequence[float], *, strong: bool, money: bool) -> None:
        pdf = self.pdf
        pdf.set_font("text", "B" if strong else "", self.size * (1.15 if strong else 0.95))
        pdf.set_text_color(*_INK)
        lines = max(len(_broken(pdf, w, self.line, cell)) for w, cell in zip(widths, cells, strict=False))
        if pdf.get_y() + lines * self.line > pdf.h - _MARGIN:
            pdf.add_page()
        top = pdf.get_y()
        for place, (w, cell) in enumerate(zip(widths, cells, strict=False)):
            pdf.set_xy(pdf.l_margin + sum(widths[:place]), top)
            pdf.multi_cell(
                w, self.line, cell, align="R" if money and place else "L", new_x=XPos.LMARGIN, new_y=YPos.NEXT
            )
        pdf.set_y(top + lines * self.line + 0.6)

    def _picture(self, file: str, says: str) -> None:
        pdf, data = self.pdf, self.picture(file)
        with Image.open(io.BytesIO(data)) as image:
            wide, high = image.size
        width = min(_PICTURE_WIDTH, pdf.epw)
        height = width * high / wide
        if height > 70:
            width, height = width * 70 / height, 70
        if pdf.get_y() + height + self.line > pdf.h - _MARGIN:
            pdf.add_page()
        pdf.image(io.BytesIO(data), w=width, h=height)
        if says:
            self._write(says, 0.85, soft=True)


def _labels(labels: Sequence[Label], say: Say, fonts: Path | None, letters: frozenset[str]) -> bytes:
    pdf = _new(_LABEL, fonts, letters)
    pdf.set_auto_page_break(False)
    pdf.set_margins(4, 4, 4)
    for label in labels:
        pdf.add_page()
        code = io.BytesIO()
        segno.make(label.code, error="m").save(code, kind="png", scale=8, border=2)
        pdf.image(code, x=pdf.w - 38, y=4, w=34, h=34)
        pdf.set_xy(4, 5)
        pdf.set_font("text", "B", 22)
        pdf.cell(pdf.w - 44, 10, label.number, new_x=XPos.LMARGIN, new_y=YPos.NEXT)
        pdf.set_font("text", "B", 12)
        pdf.cell(pdf.w - 44, 7, say(label.what), new_x=XPos.LMARGIN, new_y=YPos.NEXT)
        pdf.set_font("text", "", 9)
        for line in label.lines:
            shown = _broken(pdf, pdf.w - 44, 4.4, say(line))[:2]
            pdf.multi_cell(pdf.w - 44, 4.4, "\n".join(shown), align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)
    return _finished(pdf)


def _finished(pdf: FPDF) -> bytes:
    try:
        return bytes(pdf.output())
    finally:
        _close_faces(pdf)


def _close_faces(pdf: FPDF) -> None:
    """A face is read as it is needed, from a file that stays open until then."""
    for face in pdf.fonts.values():
        ttfont = getattr(face, "ttfont", None)
        if ttfont is not None:
            ttfont.close()


def _broken(pdf: FPDF, width: float, height: float, text: str) -> list[str]:
    """The text as the lines it takes."""
    lines = pdf.multi_cell(width, height, text, dry_run=True, output="LINES")
    assert isinstance(lines, list)
    return lines
