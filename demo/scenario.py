"""The demo: working models for sports mouthguards and demonstration sets. People, clubs and schools are invented."""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bitecore.files import obj_write, ply, stl
from bitecore.mesh import Mesh

from . import rescans, variants
from .arch import ArchPlan, Jaw, Pair, pair

PEOPLE = [
    ("mira", "Mira", "Tallow", "technician", "plaster-and-light"),
    ("tove", "Tove", "Ashgrove", "lead", "plaster-and-light"),
]
_FIXED_TIME = (2020, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class DemoCase:
    """trouble : what is wrong with the files; files : the names they get (chaos, as in life); accept : steps accepted at
    the start; due_in_days : from today; settings : {step: values} for all jaws."""

    plan: ArchPlan
    trouble: str
    files: tuple[str, ...]
    patient: str
    practice: str
    purpose: str
    due_in_days: int
    accept: tuple[str, ...] = ()
    notes: str = ""
    settings: dict[str, dict] = field(default_factory=dict)


_GUARD, _SET = "Mouthguard model", "Demonstration set"
_ROVERS, _ROWERS, _SCHOOL = "Saltmarsh Rovers", "Saltmarsh Rowing Club", "Fenwick School of Hygiene"

CASES = [
    DemoCase(
        ArchPlan(seed=29, grid_mm=0.4), "in occlusion", ("mx 2nd export.stl", "md 2nd export.stl"), "Rosalind Quayle", _ROWERS, _GUARD, 5,
        ("intake", "bite", "level", "trim", "base"),
        settings={
            "hollow": {"style": "open"}, "label": {"style": "engraved"}, "articulate": {"style": "pins"}, "plate": {"printer": "heron"},
        },
    ),
    DemoCase(
        ArchPlan(seed=11, grid_mm=0.34), "in occlusion", ("scan_0412_a.stl", "scan_0412_b.stl"), "Corwin Pellathorn",
        _ROVERS, _GUARD, 3, ("intake", "bite", "level", "trim", "base", "plate"),
    ),
    DemoCase(
        ArchPlan(seed=23, grid_mm=0.48, gaps=(15,)), "in occlusion", ("export1.stl", "export2.stl"), "Ilse Marrowby",
        _ROWERS, _GUARD, 4, ("intake", "bite", "level"),
    ),
    DemoCase(
        ArchPlan(seed=52, grid_mm=0.48), "bite scans", ("u.ply", "l.ply", "occl_1.stl", "occl_2.stl"), "Bram Oxenhale",
        _ROVERS, _GUARD, 1, notes="Two bite scans came with it; the jaws lie each in their own coordinates.",
    ),
    DemoCase(
        ArchPlan(seed=61, grid_mm=0.48), "bite missing", ("up_final.stl", "low_final (2).stl"), "Tilda Quennel", _ROWERS, _GUARD, 2,
        notes="The bite scan was forgotten; the club sends it.",
    ),
    DemoCase(
        ArchPlan(seed=5, grid_mm=0.48), "turned and inside-out in a ZIP", ("case_export.zip",), "Demonstration set 2", _SCHOOL, _SET, 8,
        notes="A study model for the shelf.",
        settings={
            "base": {"shape": "squared", "flush": True, "edge": "bevelled", "thickness_mm": 8.0}, "plate": {"printer": "heron"},
        },
    ),
    DemoCase(ArchPlan(seed=74, grid_mm=0.48, third=True), "in metres", ("a.obj", "b.obj"), "Demonstration set 3", _SCHOOL, _SET, 8),
    DemoCase(
        ArchPlan(seed=88, grid_mm=0.48, gaps=(16, 15, 26, 27, 36, 37, 46)), "in occlusion", ("ok.stl", "uk.stl"), "Demonstration set 5",
        _SCHOOL, _SET, 12, notes="Partly toothless; the palate is kept.",
    ),
    DemoCase(
        ArchPlan(seed=37, grid_mm=0.48), "lower alone", ("LowerJawScan.stl",), "Demonstration set 4", _SCHOOL, _SET, 9,
        notes="Printed on supports.", settings={"plate": {"supports": "all", "tilt_deg": 60.0}},
    ),
    DemoCase(ArchPlan(seed=93, grid_mm=0.48), "closed model", ("modell_ok.stl",), "Demonstration set 6", _SCHOOL, _SET, 14),
    DemoCase(
        ArchPlan(seed=13, grid_mm=0.48, crowding=0.9), "in occlusion", ("Scan1.stl", "Scan2.stl"), "Hestia Brandling", _ROWERS, _GUARD, 6,
        ("intake",),
    ),
]  # fmt: skip


def written(case: DemoCase, folder: Path) -> list[Path]:
    """The files of one case, made once."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / name for name in case.files]
    if not all(p.exists() for p in paths):
        for path, data in zip(paths, _FILES[case.trouble](pair(case.plan), case), strict=True):
            path.write_bytes(data)
    return paths


def _stl(mesh: Mesh) -> bytes:
    return stl.write_binary(mesh, title="demo scan")


def coloured(jaw: Jaw) -> bytes:
    """PLY with a colour per vertex, as scanners write: ivory teeth, rose gum."""
    tooth = np.zeros(len(jaw.mesh.vertices_mm), bool)
    tooth[jaw.mesh.faces[jaw.tooth > 0].ravel()] = True
    colour = np.where(tooth[:, None], (226, 214, 190), (203, 132, 128)).astype(np.uint8)
    return ply.write(jaw.mesh, colour)


def _together(both: Pair, case: DemoCase) -> list[bytes]:
    return [_stl(both.upper.mesh), _stl(both.lower.mesh)]


def _apart(both: Pair, case: DemoCase) -> list[bytes]:
    """Each jaw in its own coordinates."""
    seed = case.plan.seed
    return [_stl(j.mesh.moved(variants.turned(seed + i))) for i, j in enumerate((both.upper, both.lower))]


def _with_bites(both: Pair, case: DemoCase) -> list[bytes]:
    seed, rng = case.plan.seed, np.random.default_rng(case.plan.seed)
    out = []
    for i, jaw in enumerate((both.upper, both.lower)):
        moved = jaw.mesh.moved(variants.turned(seed + i))
        out.append(coloured(Jaw(moved, jaw.tooth, jaw.places, jaw.own_to_bench)))
    for i, left in enumerate((True, False), 2):
        out.append(_stl(rescans.bite_scan(both, case.plan, left=left, rng=rng).moved(variants.turned(seed + i))))
    return out


def _in_a_zip(both: Pair, case: DemoCase) -> list[bytes]:
    turn = variants.turned(case.plan.seed)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        members = {
            "export/1/surface.stl": _stl(both.lower.mesh.moved(turn).turned_inside_out()),
            "export/2/surface.stl": _stl(both.upper.mesh.moved(turn)),
            "export/letter.txt": b"Two sets please, one for each class.\n",
            "__MACOSX/._export": b"\0",
        }
        for name, data in members.items():
            archive.writestr(zipfile.ZipInfo(name, _FIXED_TIME), data, zipfile.ZIP_DEFLATED, 1)
    return [out.getvalue()]


def _in_metres(both: Pair, case: DemoCase) -> list[bytes]:
    return [obj_write.write(Mesh.of(j.mesh.vertices_mm / 1000.0, j.mesh.faces)) for j in (both.upper, both.lower)]


_FILES = {
    "in occlusion": _together,
    "bite scans": _with_bites,
    "bite missing": _apart,
    "turned and inside-out in a ZIP": _in_a_zip,
    "in metres": _in_metres,
    "lower alone": lambda both, case: [_stl(both.lower.mesh)],
    "closed model": lambda both, case: [_stl(variants.closed_model(both.upper, upper=True))],
}
