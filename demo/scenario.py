"""The demo: working models for sports mouthguards and demonstration sets. People, clubs and schools are invented."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from bitecore.files import stl

from .arch import ArchPlan, jaw_pair

PEOPLE = [
    ("mira", "Mira", "Tallow", "technician", "plaster-and-light"),
    ("tove", "Tove", "Ashgrove", "lead", "plaster-and-light"),
]


@dataclass(frozen=True)
class DemoCase:
    """files : names the scans get (chaos, as in life); accept : steps accepted at the start."""

    plan: ArchPlan
    files: tuple[str | None, str | None]
    patient: str
    practice: str
    purpose: str
    due_in_days: int
    accept: tuple[str, ...] = ()
    settings: dict[str, dict] = field(default_factory=dict)


CASES = [
    DemoCase(
        ArchPlan(seed=11, grid_mm=0.31), ("scan_0412_a.stl", "scan_0412_b.stl"), "Corwin Pellathorn", "Saltmarsh Rovers",
        "Mouthguard model", 3, ("intake", "bite", "level", "trim", "base", "plate"),
    ),
    DemoCase(
        ArchPlan(seed=23, grid_mm=0.31, gaps=(15,)), ("export1.stl", "export2.stl"), "Ilse Marrowby",
        "Saltmarsh Rowing Club", "Mouthguard model", 4, ("intake", "bite", "level"),
    ),
    DemoCase(
        ArchPlan(seed=37, grid_mm=0.31), (None, "LowerJawScan.stl"), "Demonstration set 4", "Fenwick School of Hygiene",
        "Demonstration set", 9,
    ),
]  # fmt: skip


def written(case: DemoCase, folder: Path) -> list[Path]:
    """The scans of one case as files, made once."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / name for name in case.files if name]
    if not all(p.exists() for p in paths):
        for name, mesh in zip(case.files, jaw_pair(case.plan), strict=True):
            if name:
                (folder / name).write_bytes(stl.write_binary(mesh, title="demo scan"))
    return paths
