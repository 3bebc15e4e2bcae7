"""Numbers out of text, quickly and to the last bit: what the readers of OBJ, 3MF and text forms of STL and PLY share.

A decimal of up to 19 digits whose value is an integer below 2**53 times a power of ten from -22 to 22 is exact in one
multiplication or division (Clinger, How to Read Floating Point Numbers Accurately, 1990). Longer ones are divided with the
remainder carried along (Dekker, A Floating-Point Technique for Extending the Available Precision, 1971), and where even
that leaves the last bit open, or the number is of another kind, Python's float reads it.
"""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

GOOD, LATER, BAD = 0, 1, 2
_MOST_LATER_BYTES = 64
_POWERS = np.array([10.0**k for k in range(23)])


@nb.njit(cache=True)
def _remainder(a, b, quotient):
    """a - b * quotient without a rounding error, for quotient = a / b rounded."""
    high = quotient * 134217729.0
    high -= high - quotient
    low = quotient - high
    top = b * 134217729.0
    top -= top - b
    rest = b - top
    product = quotient * b
    error = ((high * top - product) + high * rest + low * top) + low * rest
    return (a - product) - error


@nb.njit(cache=True)
def _divided(mantissa, power):
    """(mantissa / power rounded once, is that certain), for a whole mantissa of 64 bits and an exact power."""
    high = float(mantissa)
    if high >= 18446744073709549568.0:
        return 0.0, False
    whole_high = np.uint64(high)
    low = float(mantissa - whole_high) if mantissa >= whole_high else -float(whole_high - mantissa)
    first = high / power
    more = (_remainder(high, power, first) + low) / power
    value = first + more
    left = more - (value - first)
    half = (np.nextafter(value, np.inf) - value) / 2
    below = (value - np.nextafter(value, 0.0)) / 2
    return value, abs(left) + abs(more) * 1e-15 < min(half, below)


@nb.njit(cache=True)
def decimal(text, at, end):  # noqa: ANN201
    """(value, where it ends, GOOD, LATER or BAD) of the number that begins at `at`; LATER: text[at:end] is for Python."""
    begin, sign = at, 1.0
    if at < end and (text[at] == 45 or text[at] == 43):
        sign = -1.0 if text[at] == 45 else 1.0
        at += 1
    digits, shift, mantissa, any_digit = 0, 0, np.uint64(0), False
    while at < end and 48 <= text[at] <= 57:
        any_digit = True
        if digits < 19:
            mantissa = mantissa * np.uint64(10) + np.uint64(text[at] - 48)
            digits += 1 if mantissa > 0 else 0
        else:
            digits += 1
            shift += 1
        at += 1
    if at < end and text[at] == 46:
        at += 1
        while at < end and 48 <= text[at] <= 57:
            any_digit = True
            if digits < 19:
                mantissa = mantissa * np.uint64(10) + np.uint64(text[at] - 48)
                digits += 1 if mantissa > 0 else 0
                shift -= 1
            else:
                digits += 1
            at += 1
    if any_digit and at < end and (text[at] == 101 or text[at] == 69):
        after, power, down, any_power = at + 1, 0, False, False
        if after < end and (text[after] == 45 or text[after] == 43):
            down = text[after] == 45
            after += 1
        while after < end and 48 <= text[after] <= 57:
            any_power = True
            power = min(power * 10 + (int(text[after]) - 48), 100_000)
            after += 1
        if any_power:
            at = after
            shift += -power if down else power
    while at < end and text[at] > 32 and text[at] != 34 and text[at] != 39 and text[at] != 47:
        any_digit = False  # a word that only begins like a number, or nan and inf
        at += 1
    if any_digit and digits <= 19 and mantissa < np.uint64(1) << np.uint64(53) and -22 <= shift <= 22:
        value = float(mantissa)
        return sign * (value / _POWERS[-shift] if shift < 0 else value * _POWERS[shift]), at, GOOD
    if any_digit and digits <= 19 and -22 <= shift < 0:
        value, certain = _divided(mantissa, _POWERS[-shift])
        if certain:
            return sign * value, at, GOOD
    if at == begin or at - begin > _MOST_LATER_BYTES:
        return 0.0, at, BAD
    return 0.0, at, LATER


@nb.njit(cache=True)
def whole(text, at, end):  # noqa: ANN201
    """(value, where it ends, is it one) of the integer that begins at `at`."""
    minus = at < end and text[at] == 45
    if minus or (at < end and text[at] == 43):
        at += 1
    begin, value = at, 0
    while at < end and 48 <= text[at] <= 57 and at - begin < 12:
        value = value * 10 + (int(text[at]) - 48)
        at += 1
    return -value if minus else value, at, begin < at < begin + 12


@nb.njit(cache=True)
def word(text, at):  # noqa: ANN201
    """(where the next word begins, where it ends); both the same at the end of the text."""
    end = len(text)
    while at < end and text[at] <= 32:
        at += 1
    begin = at
    while at < end and text[at] > 32:
        at += 1
    return begin, at


@nb.njit(cache=True)
def _words(text, out, spans):
    """The numbers of a text between blanks, into out; (how many, how many of them for later, is all well)."""
    at, end, n, later = 0, len(text), 0, 0
    while True:
        while at < end and text[at] <= 32:
            at += 1
        if at >= end or n >= len(out):
            return n, later, at >= end
        begin = at
        out[n], at, how = decimal(text, at, end)
        if how == BAD or (at < end and text[at] > 32):
            return n, later, False
        if how == LATER:
            if later >= len(spans):
                return n, later, False
            spans[later, 0], spans[later, 1], spans[later, 2] = n, begin, at
            later += 1
        n += 1


def read_later(text: NDArray[np.uint8], spans: NDArray[np.int64], out: NDArray[np.float64]) -> None:
    """Fill in what was left to Python: spans (k, 3) of place in out.ravel(), begin and end. Raises ValueError."""
    flat = out.reshape(-1)
    for place, begin, end in spans:
        number = bytes(text[begin:end])
        if b"_" in number:
            raise ValueError("not a number")
        flat[place] = float(number)


def numbers(data: bytes, count: int) -> NDArray[np.float64]:
    """`count` numbers between blanks. Raises ValueError where there are fewer, or where a word is none."""
    text = np.frombuffer(data, np.uint8)
    if count > (len(text) + 1) // 2:
        raise ValueError("cut short")
    out = np.empty(count)
    spans = np.empty((count, 3), np.int64)
    found, later, _ = _words(text, out, spans)
    if found < count:
        raise ValueError("cut short, or not a number")
    read_later(text, spans[:later], out)
    return out
