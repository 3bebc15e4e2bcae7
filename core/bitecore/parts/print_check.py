"""The print check of a body in layers: what a layer does not hold, where resin is shut in, each with its place on the plate."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..ops.cups import Cup, cups
from ..ops.held import Unheld, shut_in, unheld
from ..ops.layers import Layers
from ..ops.thin import Thin, thin_walls
from ..progress import Run

# Smaller ones are of no account: dents between cusps are cups too (common practice, no source).
_HANG_MM2, _CUP_MM2, _POCKET_ML = 1.0, 20.0, 0.001
# What opens again after so little height (the holes of a raft do) pulls at nothing worth a word.
_LOW_MM = 1.0
_MOST_SAID = 5
# Hangs so near to each other are one; heights count more than the plan.
_NEAR_MM, _STEEP = 5.0, 3.0


@dataclass(frozen=True)
class Found:
    """A finding as a sentence. at_mm : (3,) on the plate, where it has a place; radius_mm : how much to show"""

    code: str
    severity: Literal["look", "note"]
    message: str
    at_mm: tuple[float, float, float] | None = None
    radius_mm: float = 2.0

    def at_home(self, home_to_plate: ArrayLike) -> tuple[float, float, float] | None:
        """The place in the home of the body that lies by home_to_plate (4, 4)."""
        if self.at_mm is None:
            return None
        x, y, z, _ = np.linalg.solve(np.asarray(home_to_plate, np.float64), [*self.at_mm, 1.0]).tolist()
        return x, y, z


@dataclass(frozen=True)
class Checked:
    """readings : (name, value, unit)"""

    found: list[Found]
    readings: list[tuple[str, float, str]]

    @property
    def figure(self) -> str:
        worst = sum(f.severity == "look" for f in self.found)
        return f"{worst} to look at" if worst else "nothing found"


def checked(body: Layers, reach_mm: float, run: Run, *, plate: Mapping[str, Any] | None = None) -> Checked:
    """reach_mm : so far out a layer holds what lies beyond the one below it; plate : a BuildPlate, for what its printer does not print"""
    run.tick(0.1, "what every layer holds")
    hangs = [u for u in _joined(unheld(body, reach_mm=reach_mm), body) if u.island or u.area_mm2 >= _HANG_MM2]
    inside = [shut_in(body, u.layer - 1, u.x, u.y) for u in hangs]
    run.tick(0.6, "where resin flows")
    low = round(_LOW_MM / body.layer_mm)
    meanwhile, for_good = cups(body)
    pulls = [c for c in meanwhile if c.area_mm2 >= _CUP_MM2 and c.ends - c.begins > low]
    pockets = [c for c in for_good if c.ml >= _POCKET_ML]
    run.tick(0.8, "how thin it is")
    least = (plate or {}).get("least_mm", 0.0)
    thin = thin_walls(body, least) if least else []
    say = _Says(body)
    free = [u for u, within in zip(hangs, inside, strict=True) if not within]
    found = [
        *say.islands([u for u in free if u.island]),
        *say.hangs([u for u in free if not u.island], reach_mm),
        *say.pockets(pockets),
        *say.cups(pulls),
        *say.thin(thin, least, (plate or {}).get("printer", "")),
        *say.roofs([u for u, within in zip(hangs, inside, strict=True) if within]),
    ]
    return Checked(found, [
        ("islands", sum(u.island for u in free), ""),
        ("hanging out too far", sum(u.area_mm2 for u in free if not u.island), "mm²"),
        ("roofs of the cavity that hang", sum(u.area_mm2 for u, within in zip(hangs, inside, strict=True) if within), "mm²"),
        ("walls too thin", len(thin), ""),
        ("resin shut in", sum(c.ml for c in pockets), "ml"),
        ("widest cup", max((c.area_mm2 for c in pulls), default=0.0), "mm²"),
        ("largest layer", float(body.areas_mm2().max(initial=0.0)), "mm²"),
    ])  # fmt: skip


def _joined(found: list[Unheld], body: Layers) -> list[Unheld]:
    """Hangs that follow each other up a slope are one, told where it begins."""
    hangs = [u for u in found if not u.island]
    if len(hangs) < 2:
        return found
    at = np.array([[u.x * body.pixel_mm, u.y * body.pixel_mm, u.layer * body.layer_mm * _STEEP] for u in hangs])
    pairs = np.array(sorted(cKDTree(at).query_pairs(_NEAR_MM)), np.int64).reshape(-1, 2)
    links = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(hangs), len(hangs)))
    count, label = connected_components(links, directed=False)
    out = [u for u in found if u.island]
    for k in range(count):
        own = [u for u, l in zip(hangs, label, strict=True) if l == k]
        first = min(own, key=lambda u: u.layer)
        out.append(replace(first, area_mm2=sum(u.area_mm2 for u in own), far_mm=max(u.far_mm for u in own)))
    return out


class _Says:
    """Findings as sentences with their places on the plate."""

    def __init__(self, body: Layers) -> None:
        self.body = body

    def at(self, layer: int, x: float, y: float) -> tuple[float, float, float]:
        pixel = self.body.pixel_mm
        return float((self.body.x + x + 0.5) * pixel), float((self.body.y + y + 0.5) * pixel), (layer + 0.5) * self.body.layer_mm

    def _each(self, found: Sequence[Unheld], code: str, words: str, more: str) -> list[Found]:
        """The largest by themselves, the rest in one sentence."""
        ranked = sorted(found, key=lambda u: -u.area_mm2)
        flags = [
            Found(
                code, "look", words.format(up=u.layer * self.body.layer_mm, area=u.area_mm2, far=u.far_mm),
                self.at(u.layer, u.x, u.y), max(1.0, float(np.sqrt(u.area_mm2 / np.pi))),
            )
            for u in ranked[:_MOST_SAID]
        ]  # fmt: skip
        left = len(ranked) - _MOST_SAID
        return flags if left <= 0 else [*flags, Found(f"{code}-more", "look", more.format(left=left))]

    def islands(self, found: Sequence[Unheld]) -> list[Found]:
        return self._each(
            found, "island", "An island begins {up:.2f} mm over the plate, in mid-air ({area:.2f} mm²): it needs a support.",
            "{left} more islands need supports.",
        )  # fmt: skip

    def hangs(self, found: Sequence[Unheld], reach: float) -> list[Found]:
        words = "{area:.1f} mm² hang out up to {far:.1f} mm at {up:.2f} mm over the plate; up to " + f"{reach:.1f} mm hold freely."
        return self._each(found, "hang", words, "{left} more places hang out too far.")

    def pockets(self, found: Sequence[Cup]) -> list[Found]:
        words = "{ml:.3f} ml of resin stay shut in and cannot drain."
        return [Found("trapped", "look", words.format(ml=c.ml), self.at(c.widest, c.x, c.y)) for c in found[:_MOST_SAID]]

    def cups(self, found: Sequence[Cup]) -> list[Found]:
        """One on the plate has no way out at all; any other is a bowl, and pulls at the film."""
        out = []
        for c in sorted(found, key=lambda c: -c.area_mm2)[:_MOST_SAID]:
            place = self.at(c.widest, c.x, c.y)
            if c.begins == 0:
                text = f"The plate shuts in a room of {c.area_mm2:.0f} mm² up to {c.ends * self.body.layer_mm:.1f} mm: give it a drain."
                out.append(Found("shut-on-plate", "look", text, place, 3.0))
            else:
                text = f"A bowl of {c.area_mm2:.0f} mm² is shut by the film from {c.begins * self.body.layer_mm:.1f} mm on: it pulls."
                out.append(Found("cup", "note", text, place, 3.0))
        return out

    def thin(self, found: Sequence[Thin], least_mm: float, title: str) -> list[Found]:
        out = []
        for t in found[:_MOST_SAID]:
            low, high = (layer * self.body.layer_mm for layer in t.layers)
            text = (
                f"A wall {t.wide_mm:.2f} mm thick, from {low:.1f} to {high:.1f} mm over the plate, is thinner than the {title} prints "
                f"({least_mm:.2f} mm)."
            )
            out.append(Found("too-thin", "look", text, self.at(sum(t.layers) // 2, t.x, t.y), max(t.long_mm / 2, 1.0)))
        left = len(found) - _MOST_SAID
        return out if left <= 0 else [*out, Found("too-thin-more", "look", f"{left} more walls are too thin to be printed.")]

    def roofs(self, found: Sequence[Unheld]) -> list[Found]:
        if not found:
            return []
        worst = max(found, key=lambda u: u.area_mm2)
        area = sum(u.area_mm2 for u in found)
        places = f"{len(found)} place{'s' * (len(found) != 1)}"
        text = f"In the cavity the roof hangs freely in {places} ({area:.1f} mm²): it may sag a little there."
        return [Found("roof", "note", text, self.at(worst.layer, worst.x, worst.y))]
