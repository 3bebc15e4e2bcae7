"""Bodies of cases as they are pinned to a plate: the mesh, what it stands on, how its case laid it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bitecore.engine.graph import Node
from bitecore.platesheet import PlateBody, PlateDocument
from bitecore.runsheet import standard
from bitecore.runsheet.part_names import is_die, part_of
from bitecore.runsheet.part_names import teeth_of as teeth_numbers
from bitecore.runsheet.toothed import teeth_of
from bitecore.runsheet.who import CaseGraph
from cases.accepting import unaccepted
from cases.documents import document_of
from cases.models import Case
from ground.errors import Refused
from runs.owning import folder
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
        "place": place, "kit": _kit(case, address, held), "case": case.number, "address": address,
        "jaw": node.jaw or "", "veiled": node.mesh("veiled") or "",
        "margin": _lowest_margin(graph, address, np.array(place) if place else None, stand),
    }  # fmt: skip


def _kit(case: Case, address: str, held: Node | None) -> str:
    """What stays together: dies, and models whose rafts are joined; each among themselves."""
    if is_die(part_of(address)):
        return case.number
    settings: Any = document_of(case).settings_for(standard()["supports"], address)
    joined = held is not None and held.good is not None and held.mesh("mesh") is not None and settings.raft == "joined"
    return f"{case.number} models" if joined else ""


def _lowest_margin(graph: CaseGraph, address: str, place: NDArray[np.float64] | None, stand: dict[str, Any]) -> list[float] | None:
    """Of the teeth it carries, in its home: the place nearest to the plate. None where none is told."""
    found = teeth_of(graph, folder())
    piece, own = address.split(".")[0], teeth_numbers(address)
    told = [t for jaw in (found or {"jaws": []})["jaws"] if jaw["piece"] == piece for t in jaw["teeth"] if not own or t["fdi"] in own]
    points = [point for tooth in told for point in tooth["margin_mm"] or ()]
    if not points:
        return None
    up = np.array(stand["up"]) if place is None else place[2, :3]
    at = np.array(points)
    return [round(float(mm), 6) for mm in at[(at @ up).argmin()]]


def before_plate(case: Case, graph: CaseGraph) -> list[str]:
    """Titles of the steps before the plate that nobody has said yes to in this case."""
    return unaccepted(document_of(case), graph, "plate", with_it=False)


def on_it(document: PlateDocument, user: Any) -> list[tuple[Case, CaseGraph]]:
    """The cases of what lies on a plate that are still there, as they are now."""
    numbers = {body.case for body in document.bodies}
    return [(case, look(case)) for case in Case.objects.visible_to(user).filter(number__in=numbers).order_by("number")]


def moved_on(document: PlateDocument, user: Any) -> list[str]:
    """Names of bodies whose case has another one by now, or is working one out."""
    out = []
    for case, graph in on_it(document, user):
        for body in (b for b in document.bodies if b.case == case.number):
            node = graph.node("assemble", body.address)
            if node is not None and (node.good is None or node.mesh("body") != body.mesh):
                out.append(body.called)
    return list(dict.fromkeys(out))


def is_newer(body: PlateBody, now: dict[str, Any]) -> bool:
    """Is the body of the case another than the one that was pinned? Where it lies on the plate of its case is no matter."""
    if body.mesh != now["mesh"]:
        return True
    place = [row[:3] for row in now["place"]] if now["place"] else None
    before = [list(row[:3]) for row in body.place] if body.place else None
    # As long as its case lays it where it was, what it stands on is the same too.
    whole = [list(row) for row in body.place] if body.place else None
    same_place = [list(row) for row in now["place"]] == whole if now["place"] else whole is None
    return place != before or bool(now["supports"]) != bool(body.supports) or (same_place and now["supports"] != body.supports)
