"""What the rack shows of a case. It is put together when the case changes and kept with it: the rack itself works nothing out."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Hashable, Iterable
from functools import cache
from typing import Any

from django.db import DatabaseError

from bitecore.engine.graph import Node
from bitecore.engine.model import ALL, Step
from bitecore.runsheet import CaseDocument, standard
from bitecore.runsheet.who import CaseGraph
from ground.errors import log_accident
from runs.kinds import kind_of
from runs.queueing import place
from runs.services import look
from runs.store import ServerStore

from .accepting import asks, changed_since
from .documents import document_of
from .models import Case
from .names import revealed
from .schemas import Tray, TrayState

_WORST = ("failed", "look", "working", "stale", "todo", "done", "off")
# What comes after the case itself: its bodies go to the plate room as they are.
_AFTER = ("plate", "hand-off")
_FIELDS = ("patient", "practice", "purpose", "due")


@cache
def _steps() -> str:
    """Which steps there are, of which versions: a summary made with others is made anew."""
    return hashlib.sha256(str([(s.name, s.version) for s in standard().steps]).encode()).hexdigest()[:16]


def is_current(case: Case) -> bool:
    kept = case.summary
    return bool(kept) and "doubt" in kept and kept.get("steps") == _steps() and kept.get("revision") == case.revision


def summarised(case: Case, document: CaseDocument, graph: CaseGraph) -> dict[str, Any]:
    """bodies : those that could be printed
    states : of every step on the run sheet, as if nothing ran; failed, next : what it waits for, as [step, sentence, tone]
    doubt  : why it is not printed yet as a matter of course, or none: doubts that a person has seen and accepted are none."""
    states = [_state(case, graph, step) for step in standard().shown]
    failed = next((s for s in states if s["state"] == "failed"), None)
    return {
        "steps": _steps(),
        "revision": case.revision,
        **{key: getattr(document, key) for key in _FIELDS},
        "states": states,
        "bodies": [{"address": n.piece, "jaw": n.jaw or ""} for n in graph.of_step("assemble") if n.good is not None],
        "failed": [failed["step"], f"{failed['title']}: {_first_flag(graph, failed['step'], 'stop')}", "look"] if failed else None,
        "doubt": _doubt(document, graph, states),
        "next": list(_next(document, graph)),
    }


def _state(case: Case, graph: CaseGraph, step: Step) -> dict[str, str]:
    resting = [resting_state(n, case) for each in standard().speaking(step) for n in graph.of_step(each.name)]
    if set(resting) <= {"done", "off"} and any(n.state == "look" for n in found_by_parts(graph, step.name)):
        resting = ["look"]
    return {"step": step.name, "title": step.title, "state": worst(resting)}


def _doubt(document: CaseDocument, graph: CaseGraph, states: list[dict[str, str]]) -> str:
    store = ServerStore()
    for said in states:
        if said["step"] in _AFTER or said["state"] in ("done", "off"):
            continue
        if said["state"] != "look" or asks(document, graph, standard()[said["step"]], store):
            return f"{said['title']} needs a look"
    return ""


def keep_summary(case: Case, document: CaseDocument, graph: CaseGraph) -> None:
    case.summary = summarised(case, document, graph)
    Case.objects.filter(pk=case.pk).update(summary=case.summary)


def resting_state(node: Node, case: Case) -> str:
    """The word for a node while nothing runs."""
    if node.state in ("done", "look", "failed", "off"):
        return node.state
    return "stale" if node.id in case.last_good else "todo"


def found_by_parts(graph: CaseGraph, step: str) -> list[Node]:
    """What is shown with a step and says something of the case, of a jaw or of a body: its findings are the step's, as on the run
    sheet."""
    parts = [n for n in graph.nodes.values() if n.step.part_of == step and not n.step.on_demand]
    return [n for n in parts if n.piece == ALL or n.piece.partition(".")[0] in graph.jaws]


def worst(states: Iterable[str]) -> str:
    """The worse of two jaws."""
    return min(list(states) or ["todo"], key=_WORST.index)


def _next(document: CaseDocument, graph: CaseGraph) -> tuple[str, str, str]:
    """(step, one sentence, tone: look, next, calm)."""
    store = ServerStore()
    if not graph.jaws:
        return "intake", "No jaw scan yet", "look"
    for step in standard().shown:
        if not asks(document, graph, step, store):
            continue
        changed = changed_since(document, graph, step, store)
        if changed:
            return step.name, f"{step.title} has changed since it was accepted: {changed[0]}", "look"
        flag = _first_flag(graph, step.name, "look")
        if flag:
            return step.name, flag, "look"
        return step.name, f"Ready to accept: {step.title}", "next"
    node = graph.node("hand-off")
    if node is not None and node.state in ("done", "look"):
        return "hand-off", "Files are made", "calm"
    return "hand-off", "Ready for the hand-off", "next"


def _first_flag(graph: CaseGraph, step: str, severity: str) -> str:
    speaking = [n for each in standard().speaking(standard()[step]) for n in graph.of_step(each.name)]
    for node in (*speaking, *found_by_parts(graph, step)):
        if node.manifest:
            for flag in node.manifest.flags:
                if flag["severity"] == severity:
                    return flag["message"]
    return ""


def picture_of(case: Case) -> str:
    return f"{case.owner_id}/{case.picture}" if case.picture else ""


_lists: dict[Any, tuple[Any, bytes]] = {}
_making: dict[Any, threading.Lock] = {}


def same_for_all(what: Hashable, stamp: Any, make: Callable[[], bytes]) -> bytes:
    """The list of trays as it was last made, as long as the stamp is the same; of many who ask at once one makes it."""
    known = _lists.get(what)
    if known and known[0] == stamp:
        return known[1]
    with _making.setdefault(what, threading.Lock()):
        known = _lists.get(what)
        if known is None or known[0] != stamp:
            known = _lists[what] = stamp, make()
        return known[1]


def tray_or_trouble(case: Case, *, veiled: bool) -> Tray:
    """One case that cannot be shown does not take the rack with it."""
    try:
        if not is_current(case):
            _summarise_now(case)
        return tray(case, veiled=veiled)
    except (DatabaseError, MemoryError):
        raise
    except Exception as error:
        log_accident(error)
        return Tray(
            number=case.number, patient="", practice="", purpose="", due="", picture="", step="", states=[],
            waits="This case cannot be shown: something in it does not fit together. It has been logged; a lead can delete it.",
            tone="look", working=None, created=case.created.isoformat(), closed=case.closed is not None, keep_until="",
        )  # fmt: skip


def current_summary(case: Case) -> dict[str, Any] | None:
    """What lists show of it, made anew where it has to be; None of one that cannot be shown."""
    try:
        if not is_current(case):
            _summarise_now(case)
    except (DatabaseError, MemoryError):
        raise
    except Exception as error:
        log_accident(error)
        return None
    return dict(case.summary)


def _summarise_now(case: Case) -> None:
    """Of a case from before there were summaries, or after the steps have changed."""
    keep_summary(case, document_of(case), look(case))


def tray(case: Case, *, veiled: bool) -> Tray:
    """From what is kept with the case alone."""
    kept = case.summary
    busy = {node.split("/")[0] for node in case.working} if case.needs_work else set()
    states = [_running(s) if s["step"] in busy and s["state"] in ("stale", "todo") else s for s in kept["states"]]
    step, waits, tone = _waits(case)
    waits = waits if veiled else revealed(waits, kept["patient"])
    running = [w.get("fraction", 0.0) for w in case.working.values()] if case.needs_work else []
    return Tray(
        number=case.number, patient="" if veiled else kept["patient"], practice=kept["practice"], purpose=kept["purpose"],
        due=kept["due"], picture=picture_of(case), step=step, states=states, waits=waits, tone=tone,
        working=min(running) if running else None, created=case.created.isoformat(),
        closed=case.closed is not None, keep_until=case.keep_until.isoformat() if case.keep_until else "",
    )  # fmt: skip


def _running(kept: TrayState) -> TrayState:
    return {"step": kept["step"], "title": kept["title"], "state": "working"}


def _in_turn(case: Case) -> str:
    where = place(kind_of(case), case.pk, about=True)
    return f"Waits for its turn: {where}" if where else "Waits for its turn"


def _waits(case: Case) -> tuple[str, str, str]:
    """(step, one sentence, tone: look, work, next, calm)."""
    if case.closed is not None:
        return "", f"Closed; kept until {case.keep_until}", "calm"
    if case.trouble:
        return "", case.trouble, "look"
    if case.held:
        return "", "Stopped by hand: go on when you like", "look"
    if case.summary["failed"]:
        step, waits, tone = case.summary["failed"]
        return step, waits, tone
    if case.needs_work:
        words = sorted({f"{w['what']}" for w in case.working.values()})
        return "", f"Working: {', '.join(words).lower()}" if words else _in_turn(case), "work"
    step, waits, tone = case.summary["next"]
    return step, waits, tone
