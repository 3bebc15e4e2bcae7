"""A case as the bench and the rack show it."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from functools import cached_property
from typing import Any

from bitecore.engine.graph import Node
from bitecore.engine.model import ALL, Step
from bitecore.errors import BadSetting
from bitecore.runsheet import CaseDocument, Manifest, standard
from bitecore.runsheet.who import CaseGraph, about_of
from house import shelves
from runs.changes import can_undo
from runs.queueing import place
from runs.records import newer_records
from runs.services import look
from runs.store import ServerStore

from .accepting import asks, changed_since
from .documents import document_of
from .doubts import Doubt, all_doubts
from .handed import handed
from .kind import CASES
from .models import Case
from .names import PERSONAL, Names
from .nodes import FlagOut, checked, plain
from .pictures import picture_path, turn_of
from .prints import twins_of
from .schemas import CaseOut, DoubtOut, Doubts, FileOut, PieceOut, SettingOut, StepOut
from .services import DETAILS
from .trays import picture_of, resting_state
from .veil import under_veil


def steps_out() -> list[StepOut]:
    """Every step with the form of its settings, read off the one settings model; its parts' settings go with it."""
    return [
        StepOut(
            name=s.name, title=s.title, number=s.number, over=s.over.what, about=s.about, on_demand=s.on_demand,
            settings=[row for part in (s, *_parts(s)) for row in settings_of(part)],
        )
        for s in standard().shown
    ]  # fmt: skip


def _parts(step: Step) -> list[Step]:
    """What belongs to the case, to its bodies, or to the jaws as the step does, or speaks for it; settings of single scans stand with the
    scans."""
    known, speaking = standard(), standard().speaking(step)
    shared = ("whole", "bodies", step.over.what)
    return [s for s in known.parts(step.name) if (s.over.what in shared or s in speaking) and s.over.what != "scans"]


def settings_of(step: Step) -> list[SettingOut]:
    """The form of a step's settings."""
    fields = step.settings.model_json_schema().get("properties", {})
    return [_setting(step.name, key, prop) for key, prop in fields.items() if _plain(prop)]


def _plain(prop: dict) -> bool:
    """Has the setting a place in a form? Marks are set on the stage."""
    options = prop.get("anyOf", [prop])
    plain = all("$ref" not in option and option.get("type") not in ("object", "array") for option in options)
    return plain and prop.get("form", True)


def _setting(step: str, key: str, prop: dict) -> SettingOut:
    options = prop.get("anyOf", [prop])
    kind = next((o for o in options if o.get("type") != "null"), prop)
    records = shelves.on(prop["shelf"]) if prop.get("shelf") else {}
    return SettingOut(
        step=step,
        key=key,
        label=prop.get("title", key),
        help=prop.get("description", ""),
        unit=prop.get("unit", ""),
        main=prop.get("main", True),
        per_jaw=prop.get("per_jaw", False),
        shelf=prop.get("shelf", ""),
        type="choice" if "enum" in kind or records else str(kind.get("type", "string")),
        optional=any(o.get("type") == "null" for o in options),
        default=prop.get("default"),
        choices=list(records) or [str(c) for c in kind.get("enum", [])],
        labels={ident: record.name for ident, record in records.items()} or prop.get("words", {}),
        when=prop.get("when", {}),
        least=kind.get("minimum"),
        most=kind.get("maximum"),
    )


def case_out(case: Case, user: Any, *, veiled: bool, step: str = "") -> CaseOut:
    """A case as the bench shows it, with all there is to say of one step; under the veil without what could be a patient's
    name."""
    store = ServerStore()
    document = document_of(case)
    graph = case.looked[1] if case.looked and case.looked[0] == case.revision else look(case, store, document=document)
    good = store.known(case.last_good.values())
    shown = [n for n in graph.nodes.values() if n.piece in {ALL, *(p.id for p in document.live)} or "." in n.piece]
    undo, redo = can_undo(case, user)
    names = Names(document, veiled=veiled)
    details = {key: getattr(document, key) for key in DETAILS} | (dict.fromkeys(PERSONAL, "") if veiled else {})
    twins = twins_of(case, {p.id for p in document.pieces if p.retired}, veiled=veiled)
    pieces = _Pieces(case, document, graph, good, names, twins)
    return CaseOut(
        number=case.number,
        revision=case.revision,
        details=details,
        pieces=[pieces.shown(p.id) for p in document.live],
        nodes=[_node(n, case, good, names, veiled=veiled) for n in shown],
        open=step,
        opened=[_detail(n, document, names) for n in shown if step and step in (n.step.name, n.step.part_of)],
        accepted={s: changed_since(document, graph, standard()[s], store) for s in document.accepted if s in standard()},
        doubts=[doubt_out(d, names) for d in all_doubts(document, graph)],
        newer=newer_records(standard(), document),
        working=case.working if case.needs_work else {},
        queue=place(CASES, case.pk) if case.needs_work and not case.working else "",
        asked=[name for name in case.demanded if case.needs_work and (n := graph.node(name)) is not None and n.good is None],
        held=case.held,
        trouble=case.trouble,
        undo=names.said(undo) if undo else None,
        redo=names.said(redo) if redo else None,
        files=[FileOut(**asdict(file)) for file in handed(graph, document, veiled=veiled)],
        picture=picture_of(case),
        closed=case.closed is not None,
        keep_until=case.keep_until.isoformat() if case.keep_until else "",
        veiled=veiled,
    )


def doubt_out(doubt: Doubt, names: Names) -> DoubtOut:
    waived, node = doubt.waived, doubt.node
    return DoubtOut(
        id=doubt.id, step=doubt.step.name, title=doubt.step.title, node=node.id, piece=node.piece, jaw=node.jaw,
        flag=FlagOut(**names.flag(doubt.flag)), own=doubt.own, who=waived.who if waived else "", at=waived.at if waived else "",
    )  # fmt: skip


def doubts_out(case: Case, *, before: str, veiled: bool) -> Doubts:
    """What a case waits for before this step."""
    document, graph = document_of(case), look(case)
    names = standard().up_to(before) - {before}
    steps = [s for s in standard().shown if s.name in names and asks(document, graph, s, ServerStore())]
    found = [d for d in all_doubts(document, graph) if d.step.name in names]
    called = Names(document, veiled=veiled)
    return Doubts(revision=case.revision, waits={s.name: s.title for s in steps}, doubts=[doubt_out(d, called) for d in found])


@dataclass(frozen=True)
class _Pieces:
    """The scans of a case, each as its tile shows it."""

    case: Case
    document: CaseDocument
    graph: CaseGraph
    good: dict[str, Manifest]
    names: Names
    twins: dict[str, tuple[str, str]]

    @cached_property
    def settled(self) -> bool:
        """Is Intake through with all its parts?"""
        known = [n for n in self.graph.nodes.values() if "intake" in (n.step.name, n.step.part_of) and not n.step.on_demand]
        return not self.case.needs_work or all(n.state not in ("ready", "blocked") for n in known)

    def shown(self, piece: str) -> PieceOut:
        document, graph = self.document, self.graph
        entry, about = document.entry(piece), about_of(graph, piece)
        first = next(p for p in document.live if p.sha256 == entry.sha256)
        return PieceOut(
            id=piece, file=self.names.of(piece), sha256=entry.sha256, jaw=graph.jaws.get(piece), kind=_kind(piece, graph, about),
            side=_side(piece, self.case, graph, self.good), looks=about.get("jaw") or about.get("looks"),
            confidence=_confidence(piece, document, about), same_as=self.names.of(first.id) if first.id != piece else None,
            instead_of=_asks(piece, document, graph, about),
            turning=_turning(piece, self.case, graph, about),
            twin=self.twins.get(piece, ("", ""))[0], twin_case=self.twins.get(piece, ("", ""))[1], settled=self.settled,
        )  # fmt: skip


def _confidence(piece: str, document: CaseDocument, about: dict) -> float:
    """Of what is no jaw, a word of a person on what it is settles it."""
    said = document.settings.get("intake", {}).get(piece, {}).get("kind", "auto")
    return 1.0 if said != "auto" and not about.get("jaw") else float(about.get("confidence", 0.0))


# What a further scan of a jaw is told to be by the others.
_TOLD = ("before", "bodies", "wax", "returned")


def _kind(piece: str, graph: CaseGraph, about: dict) -> str:
    """As Intake says; a further scan of a jaw that is there may be one from before treatment, or have come back."""
    known = graph.kinds.get(piece)
    return known if known in _TOLD else about.get("kind", "")


def _side(piece: str, case: Case, graph: CaseGraph, good: dict[str, Manifest]) -> str:
    """Left or right, of a bite scan that was placed on the jaws; as it was last known, while it is worked out anew."""
    node = graph.node("fit")
    manifest = (node.manifest if node else None) or good.get(case.last_good.get("fit/*", ""))
    scans = manifest.values.get("scans", {}).get("json", []) if manifest else []
    return next((s["side"] for s in scans if s["piece"] == piece), "")


def _turning(piece: str, case: Case, graph: CaseGraph, about: dict) -> str:
    """Name of the strip of pictures that turns the scan on its tile, once it is made."""
    node = graph.node("intake", piece)
    if not about or node is None or node.manifest is None or "mesh" not in node.manifest.values:
        return ""
    name, _ = turn_of(node.manifest.values["mesh"]["mesh"], about)
    return f"{case.owner_id}/{name}" if picture_path(case.owner_id, name).exists() else ""


def _asks(piece: str, document: CaseDocument, graph: CaseGraph, about: dict) -> str | None:
    """The piece whose place this further scan of the same jaw could take, while nobody has said so and the scans do not."""
    if graph.kinds.get(piece) in _TOLD:
        return None
    if not about.get("jaw") or piece in graph.jaws or document.entry(piece).beside:
        return None
    return next((other for other, jaw in graph.jaws.items() if jaw == about["jaw"]), None)


def _state(node: Node, case: Case) -> str:
    """The word for a node: what runs, what is shown from before, what waits."""
    state = resting_state(node, case)
    return "working" if state in ("stale", "todo") and case.needs_work and node.id in case.working else state


def _speaks(node: Node) -> bool:
    known = standard()
    return not node.step.part_of or node.step in known.speaking(known[node.step.part_of])


def _node(node: Node, case: Case, good: dict[str, Manifest], names: Names, *, veiled: bool) -> dict[str, Any]:
    last = good.get(case.last_good.get(node.id, ""))
    shown = node.manifest or last
    worth = [f["message"] for f in (node.manifest.flags if node.manifest else []) if f["severity"] != "note"]
    values = (node.good or last).values if node.good or last else {}  # type: ignore[union-attr]
    values = under_veil(node.step.name, values) if veiled else values
    fields = {
        "id": node.id,
        "step": node.step.name,
        "part_of": node.step.part_of,
        "speaks": _speaks(node),
        "on_demand": node.step.on_demand,
        "piece": node.piece,
        "jaw": node.jaw,
        "state": _state(node, case),
        "figure": names.found(shown.figure) if shown else "",
        "looks": len(worth),
        "doubt": names.found(worth[0]) if worth else "",
        "good": {name: plain(values[name]) for name in node.step.gives if name in values},
    }
    return checked(node.step.name, fields)


def _detail(node: Node, document: CaseDocument, names: Names) -> dict[str, Any]:
    manifest = node.manifest
    return {
        "id": node.id,
        "step": node.step.name,
        "piece": node.piece,
        "seconds": manifest.seconds if manifest else None,
        "settings": _settings_of(node, document),
        "whose": document.whose(node.step, node.piece),
        "readings": manifest.readings if manifest else [],
        "flags": [names.flag(flag) for flag in manifest.flags] if manifest else [],
        "kept": node.kept,
        "waits_for": _waits(node),
    }


def _waits(node: Node) -> str:
    """Why a node is not there yet, as a sentence with the words of the run sheet."""
    known, why = standard(), node.why
    if why == "waits for a person":
        return "Ready when you are."
    if why not in known:
        return f"It waits: {why}." if why else ""
    shown = known[known[why].part_of or why]
    return "It is being worked out." if shown.name in (node.step.name, node.step.part_of) else f"It waits for {shown.title}."


def _settings_of(node: Node, document: CaseDocument) -> dict[str, Any]:
    """Where what is kept does not fit, the step's own."""
    try:
        return document.settings_for(node.step, node.piece).model_dump(mode="json")
    except BadSetting:
        return node.step.check({}).model_dump(mode="json")
