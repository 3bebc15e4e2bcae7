"""Intake over many generated scans: what each is, which jaw, which way it faces, inside-out, unit."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bitecore.anatomy.jawshape import UNITS
from bitecore.files import stl
from bitecore.mesh import Mesh
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, standard
from demo import rescans, variants
from demo.arch import ArchPlan, Jaw, pair
from demo.plan import Build

from .second import mouth, second_plan

SURE = 0.9
OTHER_KINDS = ("bite", "impression", "closed", "die", "denture", "desk")
_UNITS = ("mm", "mm", "mm", "cm", "m", "inch")
_CANDIDATES = (14, 15, 16, 17, 24, 25, 26, 34, 35, 36, 37, 44, 45, 46)


@dataclass(frozen=True)
class Scan:
    """One file and what is true of it; turn : (3, 3) the mouth's frame to the file's. jaw, up None: not asked."""

    name: str
    mesh: Mesh
    kind: str
    jaw: str | None
    up: NDArray[np.float64] | None
    turn: NDArray[np.float64]
    inside_out: bool
    unit: str


@dataclass(frozen=True)
class Outcome:
    scan: str
    kind: bool
    jaw: bool
    facing_deg: float
    inside_out: bool
    unit: bool
    looks: str
    confidence: float
    seconds: float

    @property
    def odds(self) -> float:
        """Natural logarithm, for an upper."""
        sure = min(max(self.confidence, 0.5), 0.99)
        return float(np.log(sure / (1 - sure))) * (1 if self.looks == "upper" else -1)

    @property
    def right(self) -> bool:
        return self.kind and self.jaw and self.facing_deg <= 10 and self.inside_out and self.unit

    @property
    def wrong_and_sure(self) -> bool:
        """The confidence is that of the jaw where one is named, else that of the kind."""
        named = self.scan.split()[1] in ("upper", "lower")
        return self.confidence >= SURE and not (self.kind and (self.jaw or not named))


def plan(number: int, *, grid_mm: float = 0.8) -> ArchPlan:
    """Variants by number: gaps, no palate, crowding, third molars, wear."""
    rng = np.random.default_rng(7000 + number)
    gaps = rng.choice(_CANDIDATES, size=int(rng.integers(1, 5)), replace=False) if number % 3 == 0 else ()
    return ArchPlan(
        seed=1000 + number, grid_mm=grid_mm, gaps=tuple(int(g) for g in gaps), palate=number % 2 == 0, third=number % 5 == 2,
        crowding=float(rng.uniform(0, 1)) if number % 4 == 1 else 0.25, wear_mm=0.9 if number % 7 == 0 else 0.2,
    )  # fmt: skip


def wide_plan(number: int, *, grid_mm: float = 0.8) -> ArchPlan:
    """As people differ: arch forms, sizes, curves, bites, gum, borders. What tells the jaws apart is fitted on the even
    numbers and judged on the odd ones."""
    rng = np.random.default_rng(77_000 + number)
    build = Build(
        wide=float(rng.normal(1.0, 0.05)), deep=float(rng.normal(1.0, 0.07)), power=float(rng.uniform(1.75, 2.9)),
        lower_mm=float(rng.normal(24.2, 1.0)), widths=0.04, tall=float(rng.normal(1.0, 0.09)),
        spee=float(np.clip(rng.normal(1.0, 0.7), -0.2, 2.4)), upper_deg=float(rng.normal(3.0, 4.0)), lower_deg=float(rng.normal(-9.0, 4.0)),
        lingual_mm=float(rng.normal(0.0, 0.35)), vault=float(rng.uniform(0.45, 1.25)),
        recession_mm=float(np.clip(rng.normal(0, 0.8), -0.9, 2.0)), film=int(rng.integers(0, 5)),
        cheek_mm=float(rng.uniform(6.5, 11.0)), tongue_mm=float(rng.uniform(6.5, 13.0)),
    )  # fmt: skip
    return replace(
        plan(number + 1000, grid_mm=grid_mm), build=build, palate=bool(rng.random() < 0.5), noise_mm=float(rng.uniform(0.005, 0.025)),
        overjet_mm=float(np.clip(rng.normal(2.4, 1.4), -1.5, 6.0)), overbite_mm=float(np.clip(rng.normal(2.6, 1.3), 0.0, 5.0)),
    )  # fmt: skip


def scans(number: int, *, grid_mm: float = 0.8) -> list[Scan]:
    """Both jaws of a case and one other thing, each turned any way, some inside-out, some in another unit."""
    rng = np.random.default_rng(8000 + number)
    both = pair(plan(number, grid_mm=grid_mm))
    out = []
    for jaw, truth in (("upper", both.upper), ("lower", both.lower)):
        out.append(_handed_over(f"{number} {jaw}", truth.mesh, "jaw", jaw, truth.up(), rng, flips=True))
    upper = bool(number // len(OTHER_KINDS) % 2)
    name, jaw = ("upper", both.upper) if upper else ("lower", both.lower)
    kind = OTHER_KINDS[number % len(OTHER_KINDS)]
    asked = name if kind in ("closed", "impression", "desk") else None
    out.append(_handed_over(f"{number} {kind}", _other(kind, number, both, jaw, upper, rng), kind, asked, None, rng, flips=False))
    return out


def _other(kind: str, number: int, both, jaw: Jaw, upper: bool, rng: np.random.Generator) -> Mesh:  # noqa: ANN001
    if kind == "bite":
        return rescans.bite_scan(both, plan(number), left=bool(rng.integers(2)), rng=rng)
    if kind == "die":
        return variants.single_die(jaw, (11 if upper else 31) + int(rng.integers(3, 6)), rng=rng)
    if kind == "desk":
        gone = tuple(p.fdi for p in jaw.places if p.missing)[:2]
        return variants.with_scan_bodies(jaw, gone or ((15, 25) if upper else (35, 45)), upper=upper)
    make = {"impression": variants.impression, "closed": variants.closed_model, "denture": variants.denture}[kind]
    return make(jaw, upper=upper)


def _handed_over(name, mesh, kind, jaw, up, rng, *, flips) -> Scan:  # noqa: ANN001
    turn = variants.turned(int(rng.integers(1 << 30)))
    unit = _UNITS[int(rng.integers(len(_UNITS)))]
    inside = flips and bool(rng.random() < 0.3)
    mesh = mesh.moved(turn)
    mesh = mesh.turned_inside_out() if inside else mesh
    scaled = Mesh.of(mesh.vertices_mm / UNITS[unit], mesh.faces)
    return Scan(name, scaled, kind, jaw, None if up is None else turn[:3, :3] @ up, turn[:3, :3], inside, unit)


def outcome(scan: Scan) -> Outcome:
    step = standard()["intake"]
    data = stl.write_binary(scan.mesh)
    start = time.perf_counter()
    about = step.apply(Inputs({"file": data}, "p", None, {}), step.check({}), QUIET).values["about"]
    seconds = time.perf_counter() - start
    off = 0.0
    if scan.up is not None:
        front = scan.turn @ [0.0, -1.0, 0.0]
        # The worse of the two ways it may face wrongly.
        off = max(_degrees(np.array(about["up"]), scan.up), _degrees(np.array(about["front"]), front))
    return Outcome(
        scan.name, about["kind"] == scan.kind, scan.jaw is None or about["looks"] == scan.jaw, off,
        scan.kind != "jaw" or about["turned_inside_out"] == scan.inside_out, about["unit"] == scan.unit,
        about["looks"] or "", about["confidence"], seconds,
    )  # fmt: skip


def wide_scans(number: int, *, grid_mm: float = 0.8) -> list[Scan]:
    return _jaws(pair(wide_plan(number, grid_mm=grid_mm)), number, np.random.default_rng(8400 + number))


def second_scans(number: int, *, step_mm: float = 0.5) -> list[Scan]:
    """Both jaws of a mouth by other rules, turned any way."""
    return _jaws(mouth(second_plan(number, step_mm=step_mm)), number, np.random.default_rng(8800 + number))


def _jaws(both, number: int, rng: np.random.Generator) -> list[Scan]:  # noqa: ANN001
    jaws = (("upper", both.upper), ("lower", both.lower))
    return [_handed_over(f"{number} {jaw}", truth.mesh, "jaw", jaw, truth.up(), rng, flips=True) for jaw, truth in jaws]


def _degrees(a: NDArray, b: NDArray) -> float:
    return float(np.degrees(np.arccos(np.clip(a @ b / np.linalg.norm(a) / np.linalg.norm(b), -1, 1))))


def judged(number: int, grid_mm: float = 0.8) -> list[Outcome]:
    return [outcome(scan) for scan in scans(number, grid_mm=grid_mm)]


def judged_wide(number: int, grid_mm: float = 0.8) -> list[Outcome]:
    return [outcome(scan) for scan in wide_scans(number, grid_mm=grid_mm)]


def judged_second(number: int) -> list[Outcome]:
    return [outcome(scan) for scan in second_scans(number)]
