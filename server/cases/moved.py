"""What the last change of the bite did to a case whose jaws had a place before."""

from __future__ import annotations

from dataclasses import asdict
from itertools import islice
from typing import Any

from accounts.services import label
from bitecore.runsheet import CASE, CaseDocument, resolve
from bitecore.runsheet.compare import moves
from bitecore.runsheet.who import CaseGraph, place_of
from runs.changes import back_from_now
from runs.models import Revision
from runs.services import look
from runs.store import ServerStore

from .models import Case

# So many revisions are looked back through; older changes are told by the history.
_BACK = 12


def moved(case: Case) -> dict[str, Any]:
    """{since, who, jaws}: beside the newest earlier revision whose jaws stood elsewhere; {} where there is none, or while
    the case is being worked out. Read off stored results: nothing is computed anew but the differences."""
    store = ServerStore()
    now = look(case, store)
    if not _placed(now):
        return {}
    after: Revision | None = None
    for revision, kept in islice(back_from_now(case), _BACK):
        before = resolve(CaseDocument.model_validate(kept), CASE, store)
        if after is not None and set(before.jaws) == set(now.jaws) and _placed(before) and _places(before) != _places(now):
            found = moves(before, now)
            return {"since": after.what, "who": label(after.author), "jaws": [asdict(m) for m in found]} if found else {}
        after = revision
    return {}


def _placed(graph: CaseGraph) -> bool:
    return bool(graph.jaws) and all(place_of(graph, p, "home_to_bench") is not None for p in graph.jaws)


def _places(graph: CaseGraph) -> list:
    return [place_of(graph, p, "home_to_bench") for p in sorted(graph.jaws)]
