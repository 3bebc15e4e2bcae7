"""Bodies of cases as they are pinned to a plate: the mesh, what it stands on, how its case laid it."""

from __future__ import annotations

from typing import Any

from bitecore.platesheet import PlateBody
from bitecore.runsheet.part_names import is_die, part_of
from bitecore.runsheet.who import CaseGraph
from cases.models import Case
from ground.errors import Refused
from runs.services import look


def pinned(case: Case, address: str, *, graph: CaseGraph | None = None) -> dict[str, Any]:
    """All of a PlateBody but its id, as the body is now. Raises Refused for one that is not ready."""
    graph = graph or look(case)
    node, level, laid = graph.node("assemble", address), graph.node("level"), graph.node("plate")
    digest = node.mesh("body") if node and node.good else None
    stand = level.json("stand", address.split(".")[0]) if level else None
    if node is None or digest is None or stand is None:
        raise Refused(f"The body {address[:40]} of case {case.number} is not ready yet.", code="no-body", status=409)
    place = laid.json("home_to_plate", address) if laid is not None and laid.good else None
    held = graph.node("supports", address)
    if place is None and is_die(part_of(address)):
        text = f"Dies stand on pillars, and those of case {case.number} are not worked out: see what its own plate says."
        raise Refused(text, code="not-laid", status=409)
    return {
        "mesh": digest, "supports": (held.mesh("mesh") if held and held.good else None) or "", "up": stand["up"], "front": stand["front"],
        "place": place, "kit": case.number if is_die(part_of(address)) else "", "case": case.number, "address": address,
        "jaw": node.jaw or "",
    }  # fmt: skip


def is_newer(body: PlateBody, now: dict[str, Any]) -> bool:
    """Is the body of the case another than the one that was pinned? Where it lies on the plate of its case is no matter."""
    if body.mesh != now["mesh"]:
        return True
    place = [row[:3] for row in now["place"]] if now["place"] else None
    before = [list(row[:3]) for row in body.place] if body.place else None
    return place != before or bool(now["supports"]) != bool(body.supports)
