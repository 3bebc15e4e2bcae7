"""Both jaws of a mouth of the second generator, closed, with what is true of them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bitecore.anatomy.closing import Opposing, closed, eased
from bitecore.anatomy.jaw import Jaw as SeenJaw
from bitecore.mesh import Mesh, face_normals
from bitecore.ops.rigid import placed

from .plan import SecondPlan, arch_line, drawn_in, second_plan
from .sweep import Swept, seen
from .teeth import stand

__all__ = ["Mouth", "SecondJaw", "SecondPlan", "cheek_strip", "mouth", "second_plan"]


@dataclass(frozen=True)
class SecondJaw:
    """mesh : as scanned; tips : (k, 3) buccal cusp tips of the back teeth; incisal : (3,) between the edges of the central
    incisors; facing : (3,) to the tips; tooth : (m,) FDI number of each triangle, 0 gum. All in the mouth's frame: x left, y back,
    z up."""

    mesh: Mesh
    tooth: NDArray[np.int16]
    tips: NDArray[np.float64]
    incisal: NDArray[np.float64]
    facing: NDArray[np.float64]

    def up(self) -> NDArray[np.float64]:
        """(3,) normal of its own occlusal plane: through the incisal point, best through the tips."""
        off = self.tips - self.incisal
        slope = np.linalg.lstsq(off[:, :2], off[:, 2], rcond=None)[0]
        z = np.array([-slope[0], -slope[1], 1.0]) * np.sign(self.facing[2])
        return z / np.linalg.norm(z)

    def tips_mm(self) -> dict[int, NDArray[np.float64]]:
        return {k: tip[None] for k, tip in enumerate(np.vstack([self.tips, self.incisal]))}

    def moved(self, m: NDArray) -> SecondJaw:
        turn, shift = m[:3, :3], m[:3, 3]
        return SecondJaw(self.mesh.moved(m), self.tooth, self.tips @ turn.T + shift, turn @ self.incisal + shift, turn @ self.facing)


@dataclass(frozen=True)
class Mouth:
    upper: SecondJaw
    lower: SecondJaw


def mouth(plan: SecondPlan) -> Mouth:
    """Both jaws, the lower closed to the first touch and rested on several."""
    rng = np.random.default_rng(plan.seed)
    teeth = {upper: stand(upper, plan, rng) for upper in (True, False)}
    run = max(t.at + t.wide / 2 for t in teeth[True] if t.number < 8)
    line = arch_line(plan.form, slim=plan.slim, run_mm=run)
    upper = _jaw(plan, teeth[True], line, rng, upper=True)
    lower = _jaw(plan, teeth[False], drawn_in(line, rng.normal(2.5, 0.5)), rng, upper=False)
    upper = _turned_over(upper)
    high = float(np.min(upper.tips[:, 2]) - np.max(lower.tips[:, 2]))
    forward = lower.incisal[1] - plan.overjet_mm - upper.incisal[1]
    lower = lower.moved(placed(np.eye(3), [0.0, -forward, high - 2.0]))
    front, up = np.array([0.0, -1.0, 0.0]), np.array([0.0, 0.0, 1.0])
    jaws = Opposing(SeenJaw(upper.mesh, -up, front, np.zeros(3)), SeenJaw(lower.mesh, up, front, np.zeros(3)))
    pressed = placed(np.eye(3), [0.0, 0.0, 0.2]) @ closed(jaws, np.eye(4), up).matrix
    return Mouth(upper, lower.moved(eased(jaws, pressed, tolerance_mm=0.02, axes=np.eye(3)).matrix @ pressed))


def cheek_strip(both: Mouth, *, left: bool, sees: float, high_mm: float) -> Mesh:
    """The bite seen from one cheek, a piece of each jaw: what faces it (the normal's share towards it over sees: below 0 it looks over
    the cusps into the chewing surfaces too) within high_mm of the upper's edges."""
    side = 1.0 if left else -1.0
    strips = []
    for jaw in (both.upper.mesh, both.lower.mesh):
        middle = jaw.vertices_mm[jaw.faces].mean(1) - both.upper.incisal
        strips.append(jaw.of_faces((middle[:, 0] * side > 12) & (np.abs(middle[:, 2]) < high_mm) & (face_normals(jaw)[:, 0] * side > sees)))
    first, second = strips
    return Mesh.of(np.vstack([first.vertices_mm, second.vertices_mm]), np.vstack([first.faces, second.faces + len(first.vertices_mm)]))


def _jaw(plan: SecondPlan, teeth: list, line: NDArray, rng: np.random.Generator, *, upper: bool) -> SecondJaw:
    reach = plan if upper or plan.floor else replace(plan, reach_mm=min(plan.reach_mm, 7.0))
    swept = Swept(plan, teeth, line, upper=upper, rng=rng)
    whole, over, tooth = swept.surface()
    along = np.repeat(swept.along, len(over) // len(swept.along))
    across, height = swept.profile()
    at = {t: int(np.abs(swept.along - t.at).argmin()) for t in teeth if not t.missing}

    def point(k: int) -> NDArray:
        return np.r_[swept.spot[k] + across[k, 6] * swept.out[k], height[k, 6]]

    tips = np.array([point(_highest(swept, t, height)) for t in at if t.number > 3])
    incisal = np.mean([point(k) for t, k in at.items() if t.number == 1], axis=0)
    return SecondJaw(*seen(whole, over, tooth, along, reach, swept.end, rng), tips, incisal, np.array([0.0, 0.0, 1.0]))


def _highest(swept: Swept, tooth, height: NDArray) -> int:  # noqa: ANN001
    mine = np.flatnonzero(np.abs(swept.along - tooth.at) < 0.45 * tooth.wide)
    return int(mine[height[mine, 6].argmax()])


def _turned_over(jaw: SecondJaw) -> SecondJaw:
    """Mirrored on the horizontal: of a jaw swept teeth up, an upper; its left stays left."""
    flip = np.array([1.0, 1.0, -1.0])
    mesh = Mesh.of(jaw.mesh.vertices_mm * flip, jaw.mesh.faces[:, ::-1])
    return SecondJaw(mesh, jaw.tooth, jaw.tips * flip, jaw.incisal * flip, jaw.facing * flip)
