"""The simulated printers that ship with the application: plate sizes in mm."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Printer:
    """width_mm along x, depth_mm along y, height_mm along z of the build space."""

    name: str
    title: str
    width_mm: float
    depth_mm: float
    height_mm: float


PRINTERS = {
    p.name: p
    for p in (
        Printer("wren", "Wren", 144.0, 82.0, 160.0),
        Printer("heron", "Heron", 198.0, 124.0, 210.0),
    )
}
