"""Which bodies a plate takes when it fills itself: what is due first, case by case, as long as all of it finds room."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from bitecore.mesh import Mesh, joined
from bitecore.ops.packing import BEYOND_MM, CELL_MM, Foot, foot_of, packed
from bitecore.parts.laying import as_placed, flat
from bitecore.platesheet import PlateBody, PlateDocument
from runs.owning import folder

# So many cases in a row find no room before it is full: a small one may still fit where a large one does not.
_MISSES = 2
# A plate that is packed tries more orders than this, so what found room here finds it there.
_TRIES = 10


def taken(
    document: PlateDocument, size_mm: tuple[float, float], settings: Any, cases: Iterable[list[dict[str, Any]]]
) -> list[dict[str, Any]]:
    """Bodies (all of a PlateBody but its id) of those of the cases that find room with what lies there already."""
    room = np.array(size_mm) - 2 * settings.margin_mm - 2 * BEYOND_MM
    feet = {body.id: _foot(body) for body in document.bodies}
    still = {body.id: (0,) for body in document.bodies if body.as_is}
    out: list[dict[str, Any]] = []
    misses = 0
    for number, bodies in enumerate(cases):
        more = {f"{number} {k}": _foot(PlateBody(id="b0", **one)) for k, one in enumerate(bodies)}
        covered = sum(float(foot.cells.sum()) for foot in (feet | more).values()) * CELL_MM**2
        if covered > room.prod() or packed(feet | more, room, gap_mm=settings.gap_mm, tries=_TRIES, turns=still).left:
            misses += 1
            if misses == _MISSES:
                break
            continue
        feet |= more
        out += bodies
    return out


def _foot(body: PlateBody) -> Foot:
    """As its case laid it."""
    mesh = Mesh.from_bytes(folder().read(body.mesh))
    if body.supports:
        mesh = joined([mesh, Mesh.from_bytes(folder().read(body.supports))])
    matrix, _ = flat(mesh, body.up, body.front) if body.place is None else as_placed(mesh, np.array(body.place))
    return foot_of(mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3], mesh.faces)
