"""layers.zip as a printer reads it (docs/layers.md)."""

from __future__ import annotations

import json
import zipfile
from dataclasses import dataclass
from pathlib import Path

_PNG = b"\x89PNG\r\n\x1a\n"


class Unreadable(ValueError):
    """Says why a file cannot be printed."""


@dataclass(frozen=True)
class PlateFile:
    """seconds, ml : of every layer, from the plate up; size_px : of every picture"""

    seconds: tuple[float, ...]
    ml: tuple[float, ...]
    size_px: tuple[int, int]


def read(path: Path) -> PlateFile:
    """Raises Unreadable where a layer is missing or is no picture of the size that layers.json says."""
    try:
        with zipfile.ZipFile(path) as archive:
            says = json.loads(archive.read("layers.json"))
            if says.get("format") != 1:
                raise Unreadable("layers.json is of another format than 1.")
            wide, tall = (int(n) for n in says["size_px"])
            rows = says["layers"]
            for row in rows:
                with archive.open(row["file"]) as picture:
                    head = picture.read(24)
                if head[:8] != _PNG or head[16:24] != wide.to_bytes(4, "big") + tall.to_bytes(4, "big"):
                    raise Unreadable(f"{row['file']} is no picture of {wide} × {tall} pixels.")
            seconds = tuple(float(row["seconds"]) for row in rows)
            ml = tuple(float(row["area_mm2"]) * (row["z_mm"][1] - row["z_mm"][0]) / 1000 for row in rows)
    except Unreadable:
        raise
    except (OSError, zipfile.BadZipFile, KeyError, ValueError, TypeError, IndexError, AttributeError) as error:
        raise Unreadable("This is no layers.zip that can be read to its end.") from error
    if not seconds:
        raise Unreadable("There is no layer in it.")
    return PlateFile(seconds, ml, (wide, tall))
