"""Where an earlier pair of scans that came in a relation lends it to this one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .facing import as_they_came
from .following import Followed, follow
from .jaw import Jaw


@dataclass(frozen=True)
class Lent:
    """The relation that an earlier pair had, lent to this one.

    lower_to_upper : (4, 4) as an earlier pair had it
    by             : the pieces of that pair
    error_mm       : of both fits together
    """

    lower_to_upper: NDArray[np.float64]
    by: tuple[str, str]
    error_mm: float
    rms_mm: float


def lent_by(upper: Jaw, lower: Jaw, earlier: Sequence[tuple[str, str, Jaw]], *, own: tuple[str, str]) -> Lent | None:
    """The relation of an earlier pair to which both jaws are fitted. earlier : (piece, upper or lower, scan); a jaw that
    is its own counterpart there (own : their pieces) needs no fit."""
    uppers = [(own[0], upper), *((p, j) for p, jaw, j in earlier if jaw == "upper")]
    lowers = [(own[1], lower), *((p, j) for p, jaw, j in earlier if jaw == "lower")]
    for name_u, old_u in uppers:
        for name_l, old_l in lowers:
            if (name_u, name_l) == own:
                continue
            came = as_they_came(old_u, old_l)
            if came is None or came.doubt:
                continue
            to_u = _on(upper, old_u, name_u == own[0])
            to_l = _on(lower, old_l, name_l == own[1])
            if to_u.matrix is None or to_l.matrix is None:
                continue
            error = float(np.hypot(to_u.error_mm, to_l.error_mm))
            return Lent(np.linalg.inv(to_u.matrix) @ to_l.matrix, (name_u, name_l), error, max(to_u.rms_mm, to_l.rms_mm))
    return None


def _on(jaw: Jaw, old: Jaw, same: bool) -> Followed:
    return Followed(np.eye(4), 1.0, 0.0, 0.0) if same else follow(jaw, old)
