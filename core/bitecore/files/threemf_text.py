"""The long part of a 3MF model, read quickly: vertex and triangle lines, cut out of the text before it is parsed as XML.

Only where they are what nearly every writer writes: elements without content, one after the other, no comments between.
Anything else is left in the text, where the XML parser reads it.
"""

from __future__ import annotations

import re

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .numbers import GOOD, decimal, read_later, whole

# vertices or triangles, with or without a prefix; what stands up to the end of the same is taken.
_OPENS = re.compile(rb"<((?:[\w.\-]+:)?(vertices|triangles))(?:\s[^<>]*)?>")


def taken_out(text: bytes) -> tuple[bytes, list[NDArray | None], list[NDArray | None]]:
    """(the text with the long parts empty, vertices (n, 3) float64 of each `vertices` in order, triangles (m, 3) int64 of
    each `triangles`); None where a part was left in the text."""
    # What stands in a comment or as plain text must not be taken for an element; other encodings are for the XML parser.
    if b"<!" in text or b"\0" in text or not _plain(text):
        return text, [], []
    kept: list[bytes] = []
    found: dict[bytes, list[NDArray | None]] = {b"vertices": [], b"triangles": []}
    at = 0
    while opens := _OPENS.search(text, at):
        begin, end = opens.end(), text.find(b"</" + opens[1], opens.end())
        empty = opens[0].endswith(b"/>")
        rows = None if empty or end < 0 else _vertices(text[begin:end]) if opens[2] == b"vertices" else _triangles(text[begin:end])
        found[opens[2]].append(rows)
        kept.append(text[at:begin])
        at = begin if rows is None else end
    kept.append(text[at:])
    return b"".join(kept), found[b"vertices"], found[b"triangles"]


def _plain(text: bytes) -> bool:
    head = text[:200].lstrip(b"\xef\xbb\xbf \r\n\t").lower()
    named = re.search(rb"encoding\s*=\s*[\"']([\w\-]+)", head)
    return head.startswith(b"<") and (named is None or named[1] in (b"utf-8", b"us-ascii", b"ascii"))


def _vertices(part: bytes) -> NDArray[np.float64] | None:
    text, count = np.frombuffer(part, np.uint8), part.count(b"/>")
    out, spans = np.empty((count, 3)), np.empty((3 * count, 3), np.int64)
    found, later = _rows(text, np.frombuffer(b"vertex", np.uint8), 0, out, np.empty((0, 3), np.int64), spans)
    if found != count:
        return None
    try:
        read_later(text, spans[:later], out)
    except ValueError:
        return None
    return out


def _triangles(part: bytes) -> NDArray[np.int64] | None:
    text, count = np.frombuffer(part, np.uint8), part.count(b"/>")
    out = np.empty((count, 3), np.int64)
    found, _ = _rows(text, np.frombuffer(b"triangle", np.uint8), 118, np.empty((0, 3)), out, np.empty((0, 3), np.int64))
    return out if found == count else None


@nb.njit(cache=True)
def _column(text, begin, end, prefix):
    """0, 1, 2 of x, y, z (prefix 0) or of v1, v2, v3 (prefix v); -1 of any other name."""
    if prefix == 0:
        return int(text[begin]) - 120 if end - begin == 1 and 120 <= text[begin] <= 122 else -1
    known = end - begin == 2 and text[begin] == prefix and 49 <= text[begin + 1] <= 51
    return int(text[begin + 1]) - 49 if known else -1


@nb.njit(cache=True)
def _name(text, at, end):
    while at < end and (text[at] > 64 or 48 <= text[at] <= 58 or text[at] == 45 or text[at] == 46):
        at += 1
    return at


@nb.njit(cache=True)
def _blank(text, at, end):
    while at < end and text[at] <= 32:
        at += 1
    return at


@nb.njit(cache=True)
def _rows(text, word, prefix, numbers, indices, spans):
    """(rows read, numbers left for later); fewer rows than there are where something is not as expected."""
    at, end, row, later = 0, len(text), 0, 0
    most = len(indices) if prefix else len(numbers)
    while True:
        at = _blank(text, at, end)
        if at >= end:
            return row, later
        stop = _name(text, at + 1, end)
        n = len(word)
        if text[at] != 60 or row >= most or stop - at - 1 < n or (stop - at - 1 > n and text[stop - n - 1] != 58):
            return -1, 0
        for i in range(n):
            if text[stop - n + i] != word[i]:
                return -1, 0
        at, seen = stop, 0
        while True:
            at = _blank(text, at, end)
            if at + 1 < end and text[at] == 47 and text[at + 1] == 62:
                at += 2
                break
            stop = _name(text, at, end)
            equal = _blank(text, stop, end)
            quote = _blank(text, equal + 1, end)
            if stop == at or quote >= end or text[equal] != 61 or (text[quote] != 34 and text[quote] != 39):
                return -1, 0
            column, begin = _column(text, at, stop, prefix), quote + 1
            at = begin
            if column >= 0:
                begin = _blank(text, begin, end)
                if prefix:
                    indices[row, column], at, good = whole(text, begin, end)
                    if not good:
                        return -1, 0
                else:
                    numbers[row, column], at, how = decimal(text, begin, end)
                    if how != GOOD:
                        if at == begin or later >= len(spans):
                            return -1, 0
                        spans[later, 0], spans[later, 1], spans[later, 2] = 3 * row + column, begin, at
                        later += 1
                seen |= 1 << column
                at = _blank(text, at, end)
                if at >= end or text[at] != text[quote]:
                    return -1, 0
            while at < end and text[at] != text[quote]:
                if text[at] == 60:
                    return -1, 0
                at += 1
            at += 1
        if seen != 7:
            return -1, 0
        row += 1
