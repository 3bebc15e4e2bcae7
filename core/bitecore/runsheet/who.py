"""Which scan is which jaw, and what the others are to them; told from what Intake found and what a person said."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field

from ..engine.graph import Graph
from .document import CaseDocument, PieceEntry
from .kinds import says_wax
from .targets import LiesOn, found_target

ORDER = {"upper": 0, "lower": 1}
_SURE = 0.9
# With this share of its surface the same, one scan is the other.
_SAME = 0.99
# Incisal points of two jaws in one mouth, open or closed, lie no farther apart (common practice, no source).
_FACING_MM = 60.0
# Nor farther than this in one that is closed: overjet and overbite together.
_CLOSED_MM = 10.0
_BEFORE = re.compile(r"(?<![a-z])(before|pre-?op|pre-?prep|initial|diagnostic)(?![a-z])")


@dataclass
class CaseGraph(Graph):
    """What is known of a case.

    jaws    : {piece: upper or lower} of the scans that are worked on
    kinds   : {piece: kind} of the others
    entries : of all
    told    : {piece: what stands in place of what Intake found}: to see what a choice would bring
    """

    jaws: dict[str, str] = field(default_factory=dict)
    kinds: dict[str, str] = field(default_factory=dict)
    entries: dict[str, PieceEntry] = field(default_factory=dict)
    told: dict[str, dict] = field(default_factory=dict)
    _targets: dict[str, LiesOn] = field(default_factory=dict, repr=False)


def assign(document: CaseDocument, graph: CaseGraph, *, last: bool) -> None:
    """Jaws and kinds. Scans of one jaw that came together wait until it is known which was made first."""
    graph._targets = {}
    rivals = {} if last else rivals_of(document, graph)
    drop = {entry.id: (entry.drop, rivals.get(entry.id)) for entry in document.pieces if entry.id in rivals}
    if len(set(drop.values())) == len(drop):
        graph.jaws = assign_jaws(document, graph)
        for node in graph.nodes.values():
            node.jaw = graph.jaws.get(node.piece)
    graph.kinds = kinds_of(document, graph) if last or not rivals else dict.fromkeys(rivals, "rival")


def rivals_of(document: CaseDocument, graph: CaseGraph) -> dict[str, str]:
    """{piece: jaw} of scans that look like a jaw which another one looks like too."""
    jaw = {entry.id: about_of(graph, entry.id).get("jaw") for entry in document.live}
    out: dict[str, str] = {}
    for one in ("upper", "lower"):
        alike = [piece for piece, j in jaw.items() if j == one]
        # Two jaws of a mouth, one of them taken for the other.
        closed = len(alike) == 2 and _face_to_face(about_of(graph, alike[0]), about_of(graph, alike[1]))
        out |= dict.fromkeys(alike, one) if len(alike) > 1 and not closed else {}
    return out


def assign_jaws(document: CaseDocument, graph: CaseGraph) -> dict[str, str]:
    """{piece: upper or lower} of the scans the run sheet works on: one of each, the surest first.

    A choice by hand stands. Two scans that came together and do not show one jaw twice are the two jaws of a mouth: they are
    told from each other. Else, where two look like the same jaw and nobody said so, the less sure one takes the other place
    when that one is free, however sure it looks where it does not lie on the first.
    """
    seen: list[tuple[str, dict, bool]] = []
    drop = {entry.id: entry.drop for entry in document.pieces}
    for entry in document.live:
        found = about_of(graph, entry.id)
        if found and found["jaw"] and not entry.beside:
            seen.append((entry.id, found, found["jaw_by_hand"]))
    if len(seen) == 2 and not seen[0][2] and not seen[1][2] and drop[seen[0][0]] == drop[seen[1][0]]:
        (a, of_a, _), (b, of_b, _) = seen
        if of_a["jaw"] != of_b["jaw"] or not alike(graph, a, b):
            upper, lower = (a, b) if _odds(of_a) - _odds(of_b) + _overjet(of_a, of_b) > 0 else (b, a)
            return {upper: "upper", lower: "lower"}
    # A scan that came later never takes a place by itself, however sure.
    old = {e.id: (shows_posts(graph, e.id), rank_of(graph, e.id) or 0, made_before(e, graph)) for e in document.pieces}
    seen.sort(key=lambda s: (not s[2], drop[s[0]], old[s[0]], -s[1]["confidence"]))
    holds: dict[str, str] = {}
    for piece, found, _ in seen:
        holds.setdefault(found["jaw"], piece)
    # Who looks like the other jaw comes before who would only fill its place.
    for piece, found, by_hand in seen:
        other = "lower" if found["jaw"] == "upper" else "upper"
        holder = holds[found["jaw"]]
        if piece == holder or by_hand or other in holds:
            continue
        if found["confidence"] < _SURE or alike(graph, piece, holder) is False:
            holds[other] = piece
    return {piece: jaw for jaw, piece in sorted(holds.items(), key=lambda item: ORDER[item[0]])}


def alike(graph: CaseGraph, a: str, b: str) -> bool | None:
    """Do two scans that look like one jaw lie on each other? None where that was not asked."""
    node = graph.node("again")
    known = node.json("alike") if node else None
    return None if known is None else sorted((a, b)) in [sorted(pair) for pair in known]


def foreseen(document: CaseDocument, graph: CaseGraph, piece: str, about: dict) -> dict[str, tuple[str, str]]:
    """{other piece: (what it is, what it would be)}, jaw or kind, where a choice made Intake say `about` of a piece."""
    then = CaseGraph(nodes=graph.nodes, entries=graph.entries, told={piece: about})
    then.jaws = assign_jaws(document, then)
    then.kinds = kinds_of(document, then)
    now, later = graph.kinds | graph.jaws, then.kinds | then.jaws
    return {p: (now[p], later[p]) for p in now if p != piece and p in later and now[p] != later[p]}


def kinds_of(document: CaseDocument, graph: CaseGraph) -> dict[str, str]:
    """{piece: kind} of what is no jaw of the run sheet: as Intake says, and 'further' for one more scan of a jaw that is
    there ('before' where it was made before it, 'bodies' where scan bodies stand on it, 'wax' where its name says wax-up),
    'replaced' for one whose place another took."""
    out = {}
    for entry in document.known:
        about = about_of(graph, entry.id)
        if not about or entry.id in graph.jaws:
            continue
        if entry.replaced:
            out[entry.id] = "replaced"
        elif came_back(document, graph, entry.id):
            out[entry.id] = "returned"
        elif about["kind"] in ("jaw", "closed"):
            wax = says_wax(entry.file)
            first = "bodies" if shows_posts(graph, entry.id) else "before" if made_before(entry, graph) else "further"
            out[entry.id] = "wax" if wax else first
        else:
            out[entry.id] = about["kind"]
    return out


def came_back(document: CaseDocument, graph: CaseGraph, piece: str) -> str:
    """The scan it went out from, '' where it did not, or where a person said what it is. The same surface in one drop is the
    same scan twice."""
    node = graph.node("returned", piece)
    home = node.json("home") if node else None
    if not home or not home["made"]:
        return ""
    by_hand = document.settings.get("intake", {}).get(piece, {}).get("kind", "auto") != "auto"
    drops = {entry.id: entry.drop for entry in document.pieces}
    twice = home["own"] > _SAME and drops[piece] == drops[home["piece"]]
    return "" if by_hand or twice else str(home["piece"])


def rank_of(graph: CaseGraph, piece: str) -> int | None:
    """How many other scans of its jaw it was made before, by what treatment took away; None where the shape is silent."""
    node = graph.node("again")
    return (node.json("rank") or {}).get(piece) if node else None


def shows_posts(graph: CaseGraph, piece: str) -> bool:
    """Do scan bodies stand on it where another scan of its jaw has gum?"""
    node = graph.node("again")
    return piece in (node.json("bodies") or () if node else ())


def made_before(entry: PieceEntry, graph: CaseGraph) -> bool:
    """Was it made before another scan of its jaw? By its shape; the name is asked only where that says nothing."""
    rank = rank_of(graph, entry.id)
    return named_before(entry.file) if rank is None else rank > 0


def about_of(graph: CaseGraph, piece: str) -> dict:
    """What Intake found out about a piece; empty while unknown."""
    if piece in graph.told:
        return graph.told[piece]
    node = graph.node("intake", piece)
    return (node.json("about") or {}) if node else {}


def place_of(graph: CaseGraph, piece: str, name: str) -> list | None:
    """(4, 4) rows of home_to_bench or home_to_bite: of a jaw from its step, of what goes with the jaws from Level's places."""
    for step in ("level" if name == "home_to_bench" else "bite", "places"):
        node = graph.node(step)
        rows = node.json(name, piece) if node else None
        if rows is not None:
            return rows
    return None


# The further on, the better: as files go out where nothing else is asked, and on the tray.
_BEST = (("assemble", "body", "body"), ("trim", "mesh", "trimmed"), ("intake", "mesh", "scan"))


def best_mesh(graph: CaseGraph, piece: str) -> tuple[str, str] | None:
    """(kind: body, trimmed or scan; digest) of what is made of a jaw as far as it is worked out."""
    found = ((kind, node.mesh(name)) for step, name, kind in _BEST if (node := graph.node(step, piece)))
    return next(((kind, digest) for kind, digest in found if digest), None)


def target_of(document: CaseDocument, graph: CaseGraph, piece: str) -> LiesOn:
    """The scan this one lies on. Found for all at once: a scan's own may hang on the others'."""
    if not graph._targets:
        graph._targets = _targets(document, graph)
    return graph._targets[piece]


def _targets(document: CaseDocument, graph: CaseGraph) -> dict[str, LiesOn]:
    looks = {entry.id: about_of(graph, entry.id) for entry in document.known}
    asked = {p: document.settings.get("follow", {}).get(p, {}).get("on", "") or came_back(document, graph, p) for p in graph.kinds}
    shown = {p: a.get("jaw") or a.get("looks") for p, a in looks.items()}
    return {piece: found_target(piece, graph.jaws, graph.kinds, shown, asked) for piece in graph.kinds}


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


def _odds(about: dict) -> float:
    """Natural logarithm of the odds for an upper, as Intake saw the scan alone."""
    sure = min(max(about["confidence"], 0.5), 0.99)
    return math.log(sure / (1 - sure)) * (1 if about["jaw"] == "upper" else -1)


def _overjet(a: dict, b: dict) -> float:
    """What it says for a as the upper that its incisors stand further to the front, or behind; 0 where the two are not closed
    or stand edge to edge. Of ten mouths nine have an overjet (common practice, no source)."""
    if not _face_to_face(a, b) or math.dist(a["incisal"], b["incisal"]) > _CLOSED_MM:
        return 0.0
    front = [x + y for x, y in zip(a["front"], b["front"], strict=True)]
    over = sum(f * (x - y) for f, x, y in zip(front, a["incisal"], b["incisal"], strict=True)) / 2
    return 0.0 if abs(over) < 0.5 else math.copysign(math.log(9), over)
