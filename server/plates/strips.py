"""Strips of the house's own, which find out what a printer and a resin do: printed like bodies of cases, on any plate."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache
from typing import Any

from bitecore.mesh import Mesh
from bitecore.parts.fit_strip import fit_strip
from bitecore.parts.size_strip import size_strip
from ground.errors import Refused
from runs.owning import take_bytes

_AS_IT_LIES = ((1.0, 0.0, 0.0, 0.0), (0.0, 1.0, 0.0, 0.0), (0.0, 0.0, 1.0, 0.0), (0.0, 0.0, 0.0, 1.0))
# What is measured on the size strip is what the correction shall be, so that it is not corrected itself; what fits has to fit corrected.
_AS_IS = "size-strip"
_MADE: dict[str, Callable[[], list[tuple[str, Mesh]]]] = {
    _AS_IS: lambda: [("size strip", size_strip())],
    "fit-strip": fit_strip,
}
STRIPS = tuple(_MADE)


@cache
def _bodies(strip: str) -> list[tuple[str, Mesh]]:
    return _MADE[strip]()


def pinned_strips(owner_id: int, strips: Sequence[str]) -> list[dict[str, Any]]:
    """All of PlateBodies but their ids; their meshes are kept for the plate from now on. Raises Refused for what is none."""
    if unknown := [strip for strip in strips if strip not in STRIPS]:
        raise Refused(f"The house has no strip {unknown[0][:40]}.", code="no-body", status=404)
    take_bytes(owner_id, {mesh.digest: mesh.to_bytes() for strip in set(strips) for _, mesh in _bodies(strip)})
    out = []
    for strip in strips:
        bodies = _bodies(strip)
        out += [
            {
                "mesh": mesh.digest, "supports": "", "up": (0.0, 0.0, 1.0), "front": (0.0, -1.0, 0.0), "place": _AS_IT_LIES,
                "kit": strip if len(bodies) > 1 else "", "case": "", "address": name.replace(" ", "-"), "as_is": strip == _AS_IS,
            }
            for name, mesh in bodies
        ]  # fmt: skip
    return out
