"""What a change did: how far each jaw moved on the bench, and what became of its body and of its place on the plate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..ops.rigid import angle_deg
from .who import CaseGraph, place_of

# Less than this (mm) is the rounding of the matrices.
_SAME_MM = 1e-6


@dataclass(frozen=True)
class JawMove:
    """What a change did to one jaw.

    moved_mm       : RMS over the tips that levelled the jaws
    most_mm        : the farthest of them; turned_deg
    body           : same, changed, new, or none
    had_ml, has_ml : its volume before and now, None where there was or is no body
    plate_mm       : how far it moved on the plate
    """

    piece: str
    jaw: str
    moved_mm: float
    most_mm: float
    turned_deg: float
    body: str
    had_ml: float | None
    has_ml: float | None
    plate_mm: float | None


def moves(before: CaseGraph, now: CaseGraph) -> list[JawMove] | None:
    """Of every jaw that both have; None while either is not worked out."""
    tips = _tips_on_bench(now)
    if tips is None:
        return None
    out = []
    for piece, jaw in now.jaws.items():
        old, new = _bench(before, piece), _bench(now, piece)
        if old is None or new is None:
            return None
        step = new @ np.linalg.inv(old)
        off = np.linalg.norm(tips - _moved(np.linalg.inv(step), tips), axis=1)
        off = np.where(off < _SAME_MM, 0.0, off)
        body, volumes = _body(before, now, piece)
        out.append(
            JawMove(
                piece, jaw, float(np.sqrt(np.mean(off**2))), float(off.max()), 0.0 if not off.any() else angle_deg(step[:3, :3]),
                body, *volumes, _on_plate(before, now, piece),
            )
        )  # fmt: skip
    return out


def _moved(m: NDArray, points: NDArray) -> NDArray:
    return points @ m[:3, :3].T + m[:3, 3]


def _bench(graph: CaseGraph, piece: str) -> NDArray | None:
    rows = place_of(graph, piece, "home_to_bench")
    return None if rows is None else np.array(rows)


def _tips_on_bench(graph: CaseGraph) -> NDArray | None:
    """(k, 3), in the home of the jaw that leads."""
    node = graph.node("level")
    if node is None or node.good is None:
        return None
    place = _bench(graph, node.json("auto")["on"])
    return None if place is None else _moved(place, np.array(node.json("tips")))


def _body(before: CaseGraph, now: CaseGraph, piece: str) -> tuple[str, tuple[float | None, float | None]]:
    found = []
    for graph in (before, now):
        node = graph.node("assemble", piece)
        manifest = node.good if node else None
        volume = next((r["value"] for r in manifest.readings if r["unit"] == "ml"), None) if manifest else None
        found.append((manifest.values["body"]["mesh"] if manifest else None, volume))
    (old, had), (new, has) = found
    word = "none" if new is None else "new" if old is None else "same" if old == new else "changed"
    return word, (had, has)


def _on_plate(before: CaseGraph, now: CaseGraph, piece: str) -> float | None:
    """How far the body's middle of the incisors moved on the plate (mm)."""
    places = []
    for graph in (before, now):
        node, level = graph.node("plate"), graph.node("level")
        if node is None or node.good is None or level is None:
            return None
        rows, stand = node.json("home_to_plate", piece), level.json("stand", piece)
        if rows is None or stand is None:
            return None
        places.append(np.array(rows) @ np.append(stand["origin"], 1.0))
    off = float(np.linalg.norm(places[1] - places[0]))
    return 0.0 if off < _SAME_MM else off
