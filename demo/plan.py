"""What a generated pair shall be like."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class ArchPlan:
    """seed decides all that is not said here.

    grid_mm : density; 0.33 gives about 150,000 triangles a jaw, 0.80 about 24,000.
    gaps : FDI numbers of missing teeth; third : third molars too; crowding : 0 to 1, front teeth turned and pushed out
    of line; wear_mm : how much of the tips is worn off, on average.
    noise_mm : white noise; warp_mm : RMS of the slow error of a scanner, over warp_length_mm.
    """

    seed: int = 1
    grid_mm: float = 0.33
    gaps: tuple[int, ...] = ()
    palate: bool = True
    noise_mm: float = 0.008
    warp_mm: float = 0.0
    warp_length_mm: float = 20.0
    crowding: float = 0.25
    third: bool = False
    wear_mm: float = 0.2
    overjet_mm: float = 2.2
    overbite_mm: float = 2.6
    flaws: bool = True
