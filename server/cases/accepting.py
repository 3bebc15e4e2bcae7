"""What a person accepted, and whether it is still what they saw."""

from __future__ import annotations

from typing import Any

from bitecore.engine.document import Accepted, Seen
from bitecore.engine.graph import Node
from bitecore.engine.model import Step
from bitecore.engine.store import Manifest
from bitecore.runsheet import CaseDocument, standard
from bitecore.runsheet.who import CaseGraph
from runs.store import ServerStore

_MOST_SAID = 3


def nodes_of(graph: CaseGraph, step: Step) -> list[Node]:
    """A step's own and those shown with it."""
    names = {step.name, *(part.name for part in standard().parts(step.name))}
    return [n for n in graph.nodes.values() if n.step.name in names]


def as_seen(graph: CaseGraph, step: Step) -> dict[str, Any]:
    """What is to be kept of a step that is accepted now."""
    seen = {
        n.id: Seen(version=n.kept or n.step.version, key=n.manifest.key, digest=n.seen_digest(), origin=n.origin)
        for n in nodes_of(graph, step)
        if n.manifest is not None and not n.manifest.passing
    }
    return Accepted(seen=seen).model_dump(mode="json")


def not_there(graph: CaseGraph, steps: list[Step]) -> list[str]:
    """Titles of those that are still being worked out. What a failed step leaves blocked is not: the rest can be accepted without."""
    if not any(n.state == "ready" for n in graph.nodes.values()):
        return []
    return [s.title for s in steps if any(n.state in ("ready", "blocked") for n in nodes_of(graph, s) if not n.step.on_demand)]


def changed_since(document: CaseDocument, graph: CaseGraph, step: Step, store: ServerStore) -> list[str]:
    """What has become another since the step was accepted, in words; none where it is as it was seen, or not known yet."""
    accepted = document.accepted.get(step.name)
    if accepted is None or not accepted.seen:
        return []
    out: list[str] = []
    now = {n.id: n for n in nodes_of(graph, step) if n.manifest is not None}
    for node in now.values():
        seen = accepted.seen.get(node.id)
        if seen is None:
            if node.step is step:
                out.append(f"{node.jaw or 'a part'} is new".capitalize())
        elif seen.digest != node.seen_digest():
            out += _differences(store.get(seen.key), node)
    return list(dict.fromkeys(out))[:_MOST_SAID]


def _differences(before: Manifest | None, node: Node) -> list[str]:
    now = node.manifest
    assert now is not None
    where = f"{node.jaw}: " if node.jaw else ""
    if before is None:
        return [f"{where}its result is another"]
    had = {r["name"]: r for r in before.readings}
    moved = [
        f"{where}{r['name']} {_value(had[r['name']])}, now {_value(r)}"
        for r in now.readings
        if r["name"] in had and _value(had[r["name"]]) != _value(r)
    ]
    flags = {f["message"] for f in before.flags}
    fresh = [f"{where}{f['message']}" for f in now.flags if f["message"] not in flags and f["severity"] != "note"]
    return fresh + moved or [f"{where}its shape or place is another"]


def _value(reading: dict) -> str:
    value = reading["value"]
    number = f"{value:.2f}" if isinstance(value, float) else str(value)
    return f"{number} {reading['unit']}".strip()


def asks(document: CaseDocument, graph: CaseGraph, step: Step, store: ServerStore) -> bool:
    """Does this step wait for a person's yes? One that is off does not."""
    nodes = [n for each in standard().speaking(step) for n in graph.of_step(each.name)]
    if step.on_demand or (nodes and all(n.state == "off" for n in nodes)):
        return False
    return step.name not in document.accepted or bool(changed_since(document, graph, step, store))


def still_asks(document: CaseDocument, graph: CaseGraph, store: ServerStore) -> list[str]:
    """Titles of the steps that wait for a yes."""
    return [step.title for step in standard().shown if asks(document, graph, step, store)]


def unaccepted(document: CaseDocument, graph: CaseGraph, last: str, *, with_it: bool = True) -> list[str]:
    """Titles of the steps up to this one that wait for a yes."""
    names = standard().up_to(last) - (set() if with_it else {last})
    return [step.title for step in standard().shown if step.name in names and asks(document, graph, step, ServerStore())]
