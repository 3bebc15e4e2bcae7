"""What a generated pair shall be like."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Build:
    """How one person's jaws differ from the averages of texts, which are the defaults.

    wide, deep      : of the arch, times the usual; power : its roundness, from tapered (1.7) to square (3)
    lower_mm        : half the width of the lower's line, of 26.6 mm of the upper's
    widths, tall    : spread of the teeth's widths about the table's; their heights, times the table's
    spee            : sag of the tips, times the usual
    upper_deg, lower_deg : lean of the back teeth to the cheek
    lingual_mm      : how much lower than usual the inner cusps of the lower's back teeth are; the upper's stand out as much
    vault           : depth of the palate, times the usual
    recession_mm    : of the margin; film : how many times the surface is smoothed, as film and blood in embrasures do
    cheek_mm, tongue_mm : how far the scan goes over the line of the arch
    """

    wide: float = 1.0
    deep: float = 1.0
    power: float = 2.15
    lower_mm: float = 24.4
    widths: float = 0.0
    tall: float = 1.0
    spee: float = 1.0
    upper_deg: float = -3.0
    lower_deg: float = -8.0
    lingual_mm: float = 0.0
    vault: float = 1.0
    recession_mm: float = 0.0
    film: int = 0
    cheek_mm: float = 10.0
    tongue_mm: float = 8.8


@dataclass(frozen=True)
class ArchPlan:
    """seed decides all that is not said here.

    grid_mm : density; 0.33 gives about 150,000 triangles a jaw, 0.80 about 24,000.
    gaps : FDI numbers of missing teeth; third : third molars too; crowding : 0 to 1, front teeth turned and pushed out
    of line; wear_mm : how much of the tips is worn off, on average.
    milk : "mixed" (canines and molars still milk teeth, the first molars behind them) or "all"; neither has second molars.
    prepared : FDI numbers of teeth ground for full crowns.
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
    milk: str = ""
    build: Build = Build()
    prepared: tuple[int, ...] = ()
