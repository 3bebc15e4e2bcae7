"""The way of a plate to its printer: one file, hashed; where the connection breaks, the rest goes on from there."""

from __future__ import annotations

import contextlib
import hashlib
import time
from itertools import accumulate
from pathlib import Path
from typing import Any

from django.conf import settings
from django.utils import timezone

from bitecore.parts.layer_zip import laid_out, written
from runs.owning import folder

from . import bottles, printers
from .models import ON_ITS_WAY, Print
from .services import tell

# Waits before the second, third, fourth try (s).
_WAITS_S = (1.0, 3.0, 6.0)


def deliver(pk: int) -> None:
    """Make the file, put it to the printer, and let it begin where that is free. What goes wrong is kept with the print."""
    row = Print.objects.select_related("case", "plate").filter(pk=pk, state__in=ON_ITS_WAY).first()
    if row is None:
        return
    _set(row, state="sending", says="")
    path = settings.BAY_ROOT / f"{pk}.zip"
    try:
        if not _made(row, path):
            _end(row, "What was sent is not kept any more. Send the plate as it is now.")
            return
        if _put(row, path):
            _begin(row)
    finally:
        path.unlink(missing_ok=True)


def _made(row: Print, path: Path) -> bool:
    try:
        found = laid_out(row.sent, row.spec["plate"], row.spec["printing"], folder())
    except (KeyError, OSError):
        return False  # it was sent before so much was kept of it
    data = written(found)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    _set(
        row, sha256=hashlib.sha256(data).hexdigest(), bytes=len(data), layers=len(found.says["layers"]),
        seconds_left=found.says["seconds"], takes_s=found.says["seconds"], resin_ml=found.says["resin_ml"],
        ml_by_layer=_ml(found.says["layers"]),
    )  # fmt: skip
    return True


def _ml(layers: list[dict[str, Any]]) -> list[float]:
    """What has been used once so many layers are cured (ml)."""
    each = (layer["area_mm2"] * (layer["z_mm"][1] - layer["z_mm"][0]) / 1000 for layer in layers)
    return [0.0, *(round(ml, 4) for ml in accumulate(each))]


def _put(row: Print, path: Path) -> bool:
    """Is it there, whole? Tried again where the connection breaks."""
    for number, wait in enumerate((*_WAITS_S, None), 1):
        if not _still_wanted(row):
            return False
        try:
            said = printers.put(row.bay, row.name, path, row.sha256)
        except printers.Declined as error:
            _end(row, f"The {row.printer} did not take it: {error.message}")
            return False
        except printers.Broken:
            if wait is None:
                _end(row, f"The connection to the {row.printer} broke {number} times, so it is not there. Send it again.")
                return False
            _set(row, says=f"The connection to the {row.printer} broke{_goes_on(row)} ({number + 1} of {len(_WAITS_S) + 1}).")
            time.sleep(wait)
            continue
        if said.sha256 != row.sha256:
            _end(row, f"What arrived at the {row.printer} is not what was sent: its hash is another. Send it again.")
            return False
        if not _still_wanted(row):
            printers.cancel(row.bay, row.name)
            return False
        _set(row, state="arrived", says="")
        return True
    return False


def _goes_on(row: Print) -> str:
    """Where the next try begins, in words."""
    there = 0
    with contextlib.suppress(printers.Broken):
        there = printers.arrived(row.bay, row.sha256)
    return f" at {there / 1e3:.0f} of {row.bytes / 1e3:.0f} kB; it goes on from there" if there else "; it is tried again"


def _begin(row: Print) -> None:
    """Where the printer is busy, or has another resin in it, it begins later (following.py)."""
    if says := bottles.waits_for(row):
        _set(row, says=says)
        return
    try:
        printers.start(row.bay, row.name)
        _set(row, state="printing", began=timezone.now())
        bottles.begun(row)
    except (printers.Broken, printers.Declined):
        return


def _still_wanted(row: Print) -> bool:
    return Print.objects.filter(pk=row.pk, state__in=ON_ITS_WAY).exists()


def _end(row: Print, says: str) -> None:
    _set(row, state="failed", says=says, ended=timezone.now())


def _set(row: Print, **values: object) -> None:
    """Kept, unless it was cancelled meanwhile."""
    if Print.objects.filter(pk=row.pk).exclude(state="cancelled").update(**values):
        for key, value in values.items():
            setattr(row, key, value)
        tell(row)
