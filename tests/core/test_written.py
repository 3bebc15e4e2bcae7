"""Labels as plane shapes beside other readings: the same fonts by FreeType (Pillow), QR codes by another library (zxing-cpp), marks in
closed form."""

from __future__ import annotations

import unittest

import numpy as np
import zxingcpp
from fontTools.pens.areaPen import AreaPen
from fontTools.ttLib import TTFont
from manifold3d import JoinType
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from bitecore.errors import BadSetting
from bitecore.ops.fonts import FILES, FONTS, glyph, hairline, unknown
from bitecore.ops.written import Written, code, mark, text
from bitecore.parts.house_mark import cleaned, contours
from bitecore.runsheet import standard

PIXEL_MM = 0.05


def by_freetype(said: str, tall_mm: float, font: str = "narrow") -> NDArray[np.bool_]:
    """The line as another program draws it, cropped to its ink; a row of pixels up is +y."""
    read = TTFont(FILES[font])
    size = round(tall_mm / PIXEL_MM * read["head"].unitsPerEm / read["OS/2"].sCapHeight)
    drawn = ImageFont.truetype(str(FILES[font]), size)
    at, image = 20.0, Image.new("L", (4000, 3 * size))
    for letter in said:
        ImageDraw.Draw(image).text((at, size), letter, fill=255, font=drawn)
        at += drawn.getlength(letter) + 0.06 * tall_mm / PIXEL_MM
    return cropped(np.asarray(image)[::-1] > 127)


def cropped(ink: NDArray[np.bool_]) -> NDArray[np.bool_]:
    rows, columns = np.flatnonzero(ink.any(1)), np.flatnonzero(ink.any(0))
    return ink[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]


def alike(a: NDArray[np.bool_], b: NDArray[np.bool_]) -> float:
    """Share of the ink of both that is in both."""
    shape = (max(a.shape[0], b.shape[0]), max(a.shape[1], b.shape[1]))
    one, two = (np.pad(x, [(0, shape[0] - x.shape[0]), (0, shape[1] - x.shape[1])]) for x in (a, b))
    return float((one & two).sum() / (one | two).sum())


def read_back(ink: NDArray[np.bool_], pixel: int = 2) -> list[str]:
    """What another library reads in a drawing with +y up, dark on light, with room around."""
    dark = np.pad(np.kron(ink[::-1], np.ones((pixel, pixel), bool)), 60)
    return [found.text for found in zxingcpp.read_barcodes(np.where(dark, 0, 255).astype(np.uint8))]


class LetterTest(unittest.TestCase):
    SAMPLES = "AR8g§ŁőçΩδЖщї"

    def test_areas_and_widths_are_the_fonts_own(self) -> None:
        for font in ("narrow", "wide"):
            read = TTFont(FILES[font])
            glyphs, known = read.getGlyphSet(), read.getBestCmap()
            scale = 3.0 / read["OS/2"].sCapHeight
            for letter in self.SAMPLES:
                pen = AreaPen(glyphs)
                glyphs[known[ord(letter)]].draw(pen)
                drawn, wide = glyph(letter, font, 3.0)
                self.assertAlmostEqual(
                    text([letter], font, tall_mm=3.0).shape.area() / (abs(pen.value) * scale**2), 1, delta=0.03, msg=letter
                )
                self.assertAlmostEqual(wide, glyphs[known[ord(letter)]].width * scale, places=9)
                self.assertTrue(drawn)

    def test_every_font_has_accents_greek_and_cyrillic(self) -> None:
        wanted = (
            "ÄÖÜßÉéèçñåøæőŁłŚšžĐ" + "".join(map(chr, [*range(0x391, 0x3A2), *range(0x3B1, 0x3CA)])) + "".join(map(chr, range(0x410, 0x450)))
        )
        for font in FONTS:
            self.assertEqual(unknown(wanted + "•–·", font), "", font)
            self.assertEqual(unknown("Größe 12 漢漢", font), "漢")

    def test_single_lines_are_as_wide_as_the_pen(self) -> None:
        for pen in (0.3, 0.4, 0.6):
            for tall in (2.0, 4.0):
                upright = text(["l"], "line", tall_mm=tall, pen_mm=pen)
                # The foot of the letter curls: its stem is measured on a slice above that.
                rows = upright.shape.to_polygons()[0]
                stem = rows[(rows[:, 1] > 0.4 * upright.height) & (rows[:, 1] < 1.1 * upright.height)]
                self.assertAlmostEqual(np.ptp(stem[:, 0]), pen, delta=0.04)
                self.assertEqual(upright.stroke, pen)

    def test_strokes_are_as_thin_as_said(self) -> None:
        """A pen as wide as the thinnest stroke draws nearly all of a line, one half as wide again does not."""
        for font in ("narrow", "wide"):
            made = text(["HILE-"], font, tall_mm=10.0)
            self.assertAlmostEqual(made.stroke, hairline(font) * 10, places=9)
            for share, whole in ((0.9, True), (1.6, False)):
                pen = share * made.stroke
                opened = made.shape.offset(-pen / 2, JoinType.Miter, 4.0).offset(pen / 2, JoinType.Miter, 4.0)
                self.assertEqual(opened.area() > 0.93 * made.shape.area(), whole, (font, share))

    def test_two_lines_stand_in_the_middle_under_one_another(self) -> None:
        one, two = text(["HHHHHH"], tall_mm=3), text(["HHHHHH", "II"], tall_mm=3)
        self.assertAlmostEqual(two.width, one.width, places=6)
        self.assertAlmostEqual(two.height, 3 + 1.6 * 3, delta=0.01)
        low = np.concatenate([ring[ring[:, 1].argsort()[:1]] for ring in two.shape.to_polygons() if ring[:, 1].max() < 3.1])
        self.assertLess(abs(low[:, 0].mean() - two.width / 2), 1.0)

    def test_pattern_is_checked(self) -> None:
        step = standard()["label"]
        for bad in ("{name}", "{number", "a}b", "漢"):
            for key in ("pattern", "second", "lower"):
                with self.assertRaises(BadSetting):
                    step.check({key: bad})
        with self.assertRaises(BadSetting):
            step.check({"labels": {"l1": {"pattern": "{odd}"}}})
        step.check({"pattern": "Lab 7 – {number}/{jaw} {patient} {teeth} {text}"})

    def test_settings_of_an_older_version(self) -> None:
        read = standard()["label"].check({"style": "raised", "at": [1.0, 2.0, 3.0]}, version=4)
        self.assertEqual({k: (e.name, e.at) for k, e in read.labels.items()}, {"l1": ("text", (1.0, 2.0, 3.0))})


class CodeTest(unittest.TestCase):
    def test_a_code_is_read_by_another_library(self) -> None:
        """ISO/IEC 18004 by zxing-cpp, of the filled outlines."""
        for said in ("2611-09", "2611-1234 ÄÖ", "x" * 60):
            ink = of_shape(code(said, side_mm=12))
            self.assertEqual(read_back(ink), [said])
            # A mirrored code would be read by many, so that alone says nothing: its finder patterns stand left, and on top.
            self.assertFalse(ink[: len(ink) // 6, -len(ink) // 6 :].mean() > 0.6)

    def test_what_no_code_holds(self) -> None:
        with self.assertRaises(ValueError):
            code("x" * 4000, side_mm=12)


class MarkTest(unittest.TestCase):
    RING = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 20 20">{}</svg>'

    def area(self, inside: str) -> float:
        made = mark(contours(cleaned(self.RING.format(inside))), tall_mm=10)
        return made.shape.area()

    def test_areas_in_closed_form(self) -> None:
        circle, moved = '<circle cx="9" cy="9" r="5"/>', '<g transform="translate(3 1) rotate(30) scale(2)"><circle r="2"/></g>'
        for inside in (circle, moved):
            self.assertAlmostEqual(self.area(inside) / (np.pi * 25), 1, delta=0.01)
        hole = circle + '<circle cx="9" cy="9" r="2.5" fill="white"/>'
        self.assertAlmostEqual(self.area(hole) / (np.pi * 25 * 0.75), 1, delta=0.01)
        paper = '<rect width="20" height="20" style="fill:#FFF"/>' + circle
        self.assertAlmostEqual(self.area(paper) / (np.pi * 25), 1, delta=0.01)
        rule = '<path fill-rule="evenodd" d="M0 0h10v10h-10z M2.5 2.5h5v5h-5z"/>'
        self.assertAlmostEqual(self.area(rule), 75, delta=0.5)
        thick = mark(contours(cleaned(self.RING.format('<rect width="10" height="1"/><rect width="1" height="10"/>'))), tall_mm=10)
        self.assertAlmostEqual(thick.stroke, 1.0, delta=0.1)

    def test_it_stands_upright(self) -> None:
        made = mark(contours(cleaned(self.RING.format('<path d="M0 0 L10 0 L0 20 z"/>'))), tall_mm=10)
        points = np.concatenate(made.shape.to_polygons())
        self.assertAlmostEqual(np.ptp(points[points[:, 1] > 9.9][:, 0]), 5.0, delta=0.05, msg="an SVG's y runs down: its top is wide")

    def test_strange_files_get_a_sentence(self) -> None:
        bad = [
            "", "text", "<html/>", "<svg", self.RING.format(""), self.RING.format('<path d="M0 0 h9" fill="none" stroke="black"/>'),
            '<!DOCTYPE s [<!ENTITY a "b">]><svg>&a;</svg>', '<!DOCTYPE s SYSTEM "file:///etc/passwd" [ ]><svg/>',
            "<svg>" * 90 + "</svg>" * 90,
            self.RING.format('<path d="M0 0 L"/>'), self.RING.format('<rect width="a" height="2"/>'), "<svg>" + "x" * 400_000 + "</svg>",
            self.RING.format('<rect width="5" height="0"/>'), self.RING.format('<path d="M0 0 L1e308 1e308 L-1e308 3 z"/>'),
            self.RING.format("<g>" * 3 + '<rect width="1" height="1"/>' * 2100 + "</g>" * 3), self.RING.format('<path d="M0 0 Q"/>'),
            self.RING.format('<g transform="rotate()"><circle r="2"/></g>'), self.RING.format('<image href="https://example.org/a.png"/>'),
            self.RING.format("<script>alert(1)</script>"), self.RING.format('<path d="M0 0 L nan nan L 3 3 z"/>'),
        ]  # fmt: skip
        for svg in bad:
            with self.assertRaises(ValueError, msg=svg[:80]) as caught:
                cleaned(svg)
            self.assertNotIn("Traceback", str(caught.exception))
        for outline in ("M 1 2 L 3 4 Z", "<svg/>", "M a b Z", "M 1 1 L 2 2 L 3 3 Z" * 2000):
            with self.assertRaises(ValueError):
                contours(outline)


def of_shape(made: Written, pixel: float = PIXEL_MM) -> NDArray[np.bool_]:
    """A plane shape as pixels, +y up."""
    ink = np.zeros((round(made.height / pixel) + 1, round(made.width / pixel) + 1), bool)
    for ring in made.shape.to_polygons():
        image = Image.new("1", ink.shape[::-1])
        ImageDraw.Draw(image).polygon([(float(x), float(y)) for x, y in np.asarray(ring) / pixel], fill=1)
        ink ^= np.asarray(image)
    return ink
