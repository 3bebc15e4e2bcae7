"""Doubts of a case: findings that wait for a person, and the yes that each of them got by itself."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

from django.utils import timezone

from accounts.services import label
from bitecore.engine.graph import Node
from bitecore.engine.model import Step
from bitecore.runsheet import CaseDocument, standard
from bitecore.runsheet.document import Waived
from bitecore.runsheet.who import CaseGraph
from runs.store import ServerStore

from .accepting import asks, nodes_of

_MOST_NAMED = 2


@dataclass(frozen=True)
class Doubt:
    """id : of the node and of the finding, so of its words too; own : nothing but its own yes passes it"""

    id: str
    step: Step
    node: Node
    flag: dict[str, Any]
    own: bool
    waived: Waived | None


def doubts_of(document: CaseDocument, graph: CaseGraph, step: Step) -> Iterator[Doubt]:
    """All that a step of the run sheet and its parts found, answered or not, as it is now."""
    for node in nodes_of(graph, step):
        if node.manifest is None or node.step.on_demand or node.state == "off":
            continue
        for flag in node.manifest.flags:
            if flag["severity"] == "note":
                continue
            ident = f"{node.id}:{flag['id']}"
            own = bool(flag.get("unmet")) or flag["severity"] == "stop"
            yield Doubt(ident, step, node, flag, own, document.waived.get(ident))


def all_doubts(document: CaseDocument, graph: CaseGraph) -> list[Doubt]:
    """Of the steps that wait for a yes, in the order of the run sheet, and of the others those that got a yes of their own."""
    store = ServerStore()
    out = []
    for step in standard().shown:
        if step.on_demand:
            continue
        waits = asks(document, graph, step, store)
        out += [d for d in doubts_of(document, graph, step) if waits or d.waived]
    return out


def unanswered(document: CaseDocument, graph: CaseGraph, steps: list[Step], seen: Collection[str]) -> list[Doubt]:
    """Of these steps, what nobody has said yes to. seen : what whoever accepts them has before them; not enough for what needs a yes
    of its own."""
    found = [d for step in steps for d in doubts_of(document, graph, step)]
    return [d for d in found if d.waived is None and (d.own or d.id not in seen)]


def in_words(doubts: list[Doubt]) -> str:
    named = [f"{d.step.title}: {d.flag['message']}" for d in doubts[:_MOST_NAMED]]
    more = len(doubts) - len(named)
    return " ".join([*named, *([f"And {more} more."] if more else [])])


def waived_by(doubt: Doubt, user: Any) -> dict[str, str]:
    at = timezone.now().replace(microsecond=0).isoformat()
    return Waived(step=doubt.step.name, message=doubt.flag["message"], who=label(user), at=at).model_dump()


def waived_now(document: CaseDocument, graph: CaseGraph) -> Iterator[Doubt]:
    """What stands as it is because somebody said so."""
    for step in standard().shown:
        yield from (d for d in doubts_of(document, graph, step) if d.waived)
