"""From a document and what is known so far to the nodes of the run sheet, their keys and their states."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field
from typing import Any

from ..errors import BadSetting
from .document import ALL, CaseDocument, PieceEntry, key_of
from .kinds import says_wax
from .model import Flag, Need, Step
from .registry import Registry
from .store import Manifest, ResultStore
from .targets import Found, found_target
from .task import Task

ORDER = {"upper": 0, "lower": 1}
_SURE = 0.9
# Incisal points of two jaws in one mouth, open or closed, lie no farther apart (common practice, no source).
_FACING_MM = 60.0
_BEFORE = re.compile(r"(?<![a-z])(before|pre-?op|pre-?prep|initial|diagnostic)(?![a-z])")


@dataclass
class Node:
    """state : done, look, failed, ready (inputs there, result not yet), blocked (an input is missing)."""

    step: Step
    piece: str
    jaw: str | None = None
    state: str = "blocked"
    task: Task | None = None
    manifest: Manifest | None = None
    why: str = ""

    @property
    def id(self) -> str:
        return f"{self.step.name}/{self.piece}"


@dataclass
class Graph:
    nodes: dict[str, Node] = field(default_factory=dict)
    jaws: dict[str, str] = field(default_factory=dict)
    kinds: dict[str, str] = field(default_factory=dict)

    def node(self, step: str, piece: str = ALL) -> Node | None:
        return self.nodes.get(f"{step}/{piece}")


def resolve(document: CaseDocument, registry: Registry, store: ResultStore, *, demanded: frozenset[str]) -> Graph:
    """Look up every node that can be known now. Reads manifests only, never a mesh: fast enough for every request."""
    graph = Graph()
    for step in registry.steps:
        pieces = _pieces(step, document, graph)
        for piece in pieces:
            node = Node(step, piece, graph.jaws.get(piece))
            graph.nodes[node.id] = node
            _settle(node, document, graph, store, demanded)
        # Who is upper and who is lower is known once every scan has been looked at.
        if step.name in ("intake", "again") and all(n.state not in ("ready", "blocked") for n in graph.nodes.values()):
            _assign(document, graph, last=step.name == "again")
    return graph


def _assign(document: CaseDocument, graph: Graph, *, last: bool) -> None:
    """Jaws and kinds. Scans of one jaw that came together wait until it is known which was made first."""
    rivals = {} if last else rivals_of(document, graph)
    drop = {entry.id: (entry.drop, rivals.get(entry.id)) for entry in document.pieces if entry.id in rivals}
    if len(set(drop.values())) == len(drop):
        graph.jaws = assign_jaws(document, graph)
        for node in graph.nodes.values():
            node.jaw = graph.jaws.get(node.piece)
    graph.kinds = kinds_of(document, graph) if last or not rivals else dict.fromkeys(rivals, "rival")


def rivals_of(document: CaseDocument, graph: Graph) -> dict[str, str]:
    """{piece: jaw} of scans that look like a jaw which another one looks like too."""
    jaw = {entry.id: about_of(graph, entry.id).get("jaw") for entry in document.live}
    out: dict[str, str] = {}
    for one in ("upper", "lower"):
        alike = [piece for piece, j in jaw.items() if j == one]
        # Two jaws of a mouth, one of them taken for the other.
        closed = len(alike) == 2 and _face_to_face(about_of(graph, alike[0]), about_of(graph, alike[1]))
        out |= dict.fromkeys(alike, one) if len(alike) > 1 and not closed else {}
    return out


def _pieces(step: Step, document: CaseDocument, graph: Graph) -> list[str]:
    if step.scope == "case":
        return [ALL] if not step.of or set(step.of) & set(graph.kinds.values()) else []
    if step.every_piece:
        return [p.id for p in document.known]
    if step.of:
        return [piece for piece, kind in graph.kinds.items() if kind in step.of]
    return list(graph.jaws)


def assign_jaws(document: CaseDocument, graph: Graph) -> dict[str, str]:
    """{piece: upper or lower} of the scans the run sheet works on: one of each, the surest first.

    A choice by hand stands. Where two scans look like the same jaw and nobody said so, the less sure one takes the
    other place when that one is free; of two that came closed together, the one whose incisors stand further to the
    front is the upper (overjet, common practice, no source).
    """
    seen: list[tuple[str, dict, bool]] = []
    drop = {entry.id: entry.drop for entry in document.pieces}
    for entry in document.live:
        node = graph.node("intake", entry.id)
        found = node.manifest.values.get("about", {}).get("json") if node and node.manifest else None
        if found and found["jaw"] and not entry.beside:
            seen.append((entry.id, found, found["jaw_by_hand"]))
    if len(seen) == 2 and not seen[0][2] and not seen[1][2] and seen[0][1]["jaw"] == seen[1][1]["jaw"]:
        upper = _in_front(seen[0][1], seen[1][1])
        if upper is not None:
            return {seen[upper][0]: "upper", seen[1 - upper][0]: "lower"}
    # A scan that came later never takes a place by itself, however sure.
    old = {entry.id: (rank_of(graph, entry.id) or 0, made_before(entry, graph)) for entry in document.pieces}
    seen.sort(key=lambda s: (not s[2], drop[s[0]], old[s[0]], -s[1]["confidence"]))
    out: dict[str, str] = {}
    for piece, found, by_hand in seen:
        jaw = found["jaw"]
        other = "lower" if jaw == "upper" else "upper"
        if jaw not in out.values():
            out[piece] = jaw
        elif not by_hand and found["confidence"] < _SURE and other not in out.values():
            out[piece] = other
    return dict(sorted(out.items(), key=lambda item: ORDER[item[1]]))


def kinds_of(document: CaseDocument, graph: Graph) -> dict[str, str]:
    """{piece: kind} of what is no jaw of the run sheet: as Intake says, and 'further' for one more scan of a jaw that is
    there ('before' where it was made before it, 'wax' where its name says wax-up), 'replaced' for one whose place another took."""
    out = {}
    for entry in document.known:
        about = about_of(graph, entry.id)
        if not about or entry.id in graph.jaws:
            continue
        if entry.replaced:
            out[entry.id] = "replaced"
        elif about["kind"] in ("jaw", "closed"):
            wax = says_wax(entry.file)
            out[entry.id] = "wax" if wax else "before" if made_before(entry, graph) else "further"
        else:
            out[entry.id] = about["kind"]
    return out


def rank_of(graph: Graph, piece: str) -> int | None:
    """How many other scans of its jaw it was made before, by what treatment took away; None where the shape is silent."""
    node = graph.node("again")
    return node.manifest.values.get("rank", {}).get("json", {}).get(piece) if node and node.manifest else None


def made_before(entry: PieceEntry, graph: Graph) -> bool:
    """Was it made before another scan of its jaw? By its shape; the name is asked only where that says nothing."""
    rank = rank_of(graph, entry.id)
    return named_before(entry.file) if rank is None else rank > 0


def about_of(graph: Graph, piece: str) -> dict:
    """What Intake found out about a piece; empty while unknown."""
    node = graph.node("intake", piece)
    return node.manifest.values.get("about", {}).get("json", {}) if node and node.manifest else {}


def place_of(graph: Graph, piece: str, name: str) -> list | None:
    """(4, 4) rows of home_to_bench or home_to_bite: of a jaw from its step, of what goes with the jaws from Level's places."""
    for step in ("level" if name == "home_to_bench" else "bite", "places"):
        node = graph.node(step)
        ref = node.manifest.values.get(name, {}).get("by_piece", {}).get(piece) if node and node.manifest else None
        if ref and ref["json"] is not None:
            return ref["json"]
    return None


def target_of(document: CaseDocument, graph: Graph, piece: str) -> Found:
    """The scan this one lies on."""
    looks = {entry.id: about_of(graph, entry.id) for entry in document.known}
    asked = {p: document.settings.get("follow", {}).get(p, {}).get("on", "") for p in graph.kinds}
    return found_target(piece, graph.jaws, graph.kinds, {p: a.get("jaw") or a.get("looks") for p, a in looks.items()}, asked)


def named_before(file: str) -> bool:
    """Does the name hint at a scan from before treatment? A weak hint: it only tells two scans of one jaw apart."""
    return bool(_BEFORE.search(file.lower()))


def _face_to_face(a: dict, b: dict) -> bool:
    """Do two scans stand as the two jaws of a mouth do?"""
    if not a.get("incisal") or not b.get("incisal"):
        return False
    facing = sum(x * y for x, y in zip(a["up"], b["up"], strict=True))
    ahead = sum(x * y for x, y in zip(a["front"], b["front"], strict=True))
    return facing < -0.9 and ahead > 0.9 and math.dist(a["incisal"], b["incisal"]) < _FACING_MM


def _in_front(a: dict, b: dict) -> int | None:
    """0 or 1: which of two unsure jaws that face each other has its incisors further to the front; None when neither
    or when they do not face each other."""
    if max(a["confidence"], b["confidence"]) >= _SURE:
        return None
    if not _face_to_face(a, b):
        return None
    front = [x + y for x, y in zip(a["front"], b["front"], strict=True)]
    over = sum(f * (x - y) for f, x, y in zip(front, a["incisal"], b["incisal"], strict=True)) / 2
    return None if abs(over) < 0.3 else 0 if over > 0 else 1


def _settle(node: Node, document: CaseDocument, graph: Graph, store: ResultStore, demanded: frozenset[str]) -> None:
    if node.step.scope == "case" and not node.step.of and not graph.jaws:
        node.why = "no jaw yet"
        return
    inputs: dict[str, Any] = {}
    for name, need in node.step.needs.items():
        ok, ref = _ref(need, node, document, graph)
        if not ok:
            node.why = need.step
            return
        inputs[name] = ref
    try:
        settings = document.settings_for(node.step, node.piece)
    except BadSetting as error:
        # Kept before it was refused, or by a step that knew more: it is said where it stands, and the rest goes on.
        flag = Flag("bad-setting", "stop", error.message).as_json()
        node.state, node.manifest = "failed", Manifest("", node.step.name, node.piece, {}, flags=[flag], figure="failed")
        return
    tag = {"piece": node.piece, "jaw": node.jaw, "jaws": graph.jaws if node.step.scope == "case" else {}}
    key = key_of(node.step, node.step.counts(settings) if node.step.counts else settings, inputs, tag)
    node.task = Task(key, node.step.name, node.piece, node.jaw, dict(graph.jaws), settings.model_dump(mode="json"), inputs)
    node.manifest = store.get(key)
    if node.manifest is None:
        node.state = "ready" if not node.step.on_demand or node.step.name in demanded else "blocked"
        node.why = "" if node.state == "ready" else "waits for a person"
    elif node.manifest.stopped:
        node.state = "failed"
    else:
        node.state = "look" if any(f["severity"] == "look" for f in node.manifest.flags) else "done"


def _ref(need: Need, node: Node, document: CaseDocument, graph: Graph) -> tuple[bool, Any]:
    if need.target:
        found = target_of(document, graph, node.piece)
        if need.step == "source":
            return True, {"json": {"piece": found.piece, "why": found.why}}
        return _value(graph.node(need.step, found.piece), need, found.piece) if found.piece else (True, None)
    if need.step == "source" and need.of:
        return True, {"by_piece": {p: {"json": document.entry(p).file} for p, kind in graph.kinds.items() if kind in need.of}}
    if need.step == "source":
        entry = document.entry(node.piece)
        return True, {"file": entry.sha256, "name": entry.file}
    if need.step == "case":
        return True, {"json": getattr(document, need.value)}
    if need.each or need.of:
        refs = {}
        for piece in graph.jaws if need.each else [p for p, kind in graph.kinds.items() if kind in need.of]:
            ok, ref = _value(graph.node(need.step, piece) or graph.node(need.step), need, piece)
            if not ok:
                return False, None
            refs[piece] = ref
        return True, {"by_piece": refs}
    upstream = graph.node(need.step, node.piece) or graph.node(need.step)
    return _value(upstream, need, node.piece)


def _value(upstream: Node | None, need: Need, piece: str) -> tuple[bool, Any]:
    if upstream is None or upstream.manifest is None or upstream.manifest.stopped:
        return need.optional and upstream is not None and upstream.state == "failed", None
    ref = upstream.manifest.values.get(need.value)
    if ref and "by_piece" in ref:
        ref = ref["by_piece"].get(piece)
    return (ref is not None or need.optional), ref
