"""The proof of a case as a sheet of A4 that can be hung on the wall: PDF, the same bytes for the same proof."""

from __future__ import annotations

import hashlib
import io
from functools import cache
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from reportlab.lib.colors import HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, Image, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from .proof_words import ProofCell, ProofSection, head_lines, sections
from .proofed import Proof, written

_FONTS = Path(__file__).parents[1] / "fonts"
# The house's own letters; for those that they lack (Greek, Cyrillic) the narrow ones of the labels.
_FACES = {"Sheet": "Figtree-Regular.ttf", "SheetBold": "Figtree-SemiBold.ttf", "SheetOther": "FiraSansCondensed-SemiBold.ttf"}
_INK, _DIM, _LINE = HexColor("#12201d"), HexColor("#5a6764"), HexColor("#c9d2cf")
# Within the margins, and what a frame keeps free by itself.
_WIDE = A4[0] - 36 * mm - 12


@cache
def _faces() -> dict[str, TTFont]:
    found = {name: TTFont(name, str(_FONTS / file)) for name, file in _FACES.items()}
    for font in found.values():
        pdfmetrics.registerFont(font)
    pdfmetrics.registerFontFamily("Sheet", normal="Sheet", bold="SheetBold", italic="Sheet", boldItalic="SheetBold")
    return found


def _style(name: str, size: float, **more: Any) -> ParagraphStyle:
    return ParagraphStyle(name, **{"fontName": "Sheet", "fontSize": size, "leading": size * 1.3, "textColor": _INK} | more)


def _styles() -> dict[str, ParagraphStyle]:
    return {
        "title": _style("title", 20, fontName="SheetBold"),
        "head": _style("head", 9.5, fontName="SheetBold", spaceBefore=9, spaceAfter=3),
        "text": _style("text", 8.5),
        "dim": _style("dim", 8.5, textColor=_DIM),
        "right": _style("right", 8.5, alignment=2),
        "hash": _style("hash", 6.2, fontName="Courier", textColor=_DIM),
    }


def _marked(text: str) -> str:
    """As reportlab's markup: letters that the house's own lack are set in those that have them, what none has is a dot."""
    faces, out = _faces(), list[str]()
    for letter in text:
        if not letter.isprintable():
            out.append(" ")
        elif ord(letter) in faces["Sheet"].face.charToGlyph:
            out.append(escape(letter))
        elif ord(letter) in faces["SheetOther"].face.charToGlyph:
            out.append(f'<font name="SheetOther">{escape(letter)}</font>')
        else:
            out.append("·")
    return "".join(out)


def proof_pdf(proof: Proof, picture: bytes | None = None) -> bytes:
    """picture : a PNG of the models"""
    _faces()
    styles = _styles()
    parts = [_head(proof, styles, picture), *(flowable for one in sections(proof) for flowable in _part(one, styles))]
    out = io.BytesIO()
    page = SimpleDocTemplate(
        out, pagesize=A4, leftMargin=18 * mm, rightMargin=18 * mm, topMargin=16 * mm, bottomMargin=20 * mm, invariant=1,
        title=f"Proof {proof['number']}", author="Bite Bench",
    )  # fmt: skip
    foot = f"proof.json of this sheet: SHA-256 {hashlib.sha256(written(proof)).hexdigest()}"

    def footed(canvas: Canvas, _: Any) -> None:
        canvas.setFont("Courier", 6.2)
        canvas.setFillColor(_DIM)
        canvas.drawString(18 * mm + 6, 12 * mm, foot)
        canvas.drawRightString(A4[0] - 18 * mm - 6, 12 * mm, f"{proof['number']}, page {canvas.getPageNumber()}")

    page.build(parts, onFirstPage=footed, onLaterPages=footed)
    return out.getvalue()


def _say(text: str, style: ParagraphStyle) -> Paragraph:
    return Paragraph(_marked(text), style)


def _part(section: ProofSection, styles: dict[str, ParagraphStyle]) -> list[Flowable]:
    title = _say(section["title"], styles["head"])
    if not section["rows"]:
        return [title, _say(section["none"], styles["dim"])]
    table = Table([[_cell(cell, styles) for cell in row] for row in section["rows"]], colWidths=[w * _WIDE for w in section["wide"]])
    table.setStyle(
        TableStyle(
            [
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, _LINE),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
            ]
        )
    )
    return [title, table]


def _cell(cell: ProofCell, styles: dict[str, ParagraphStyle]) -> Paragraph:
    return Paragraph("<br/>".join(map(_marked, cell["lines"])), styles[cell["look"]])


def _head(proof: Proof, styles: dict[str, ParagraphStyle], picture: bytes | None) -> Flowable:
    first, *rest = head_lines(proof)
    left: list[Flowable] = [_say(first, styles["title"]), Spacer(1, 4), *(_say(line, styles["dim"]) for line in rest)]
    image: Flowable = Image(io.BytesIO(picture), width=86 * mm, height=86 * mm * 300 / 624) if picture else Spacer(1, 1)
    table = Table([[left, image]], colWidths=[_WIDE - 88 * mm, 88 * mm])
    table.setStyle(TableStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), ("LEFTPADDING", (0, 0), (0, 0), 0)]))
    return table
