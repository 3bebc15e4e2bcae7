"""Asking for work, and saying how far a case is."""

from __future__ import annotations

import json
from typing import Any

from django.db import connection, transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from bitecore.runsheet import standard
from bitecore.runsheet.graph import Graph, resolve
from cases.documents import document_of
from cases.models import Case

from .store import ServerStore

CHANNEL = "bench"
TASK, QUEUE = "work_case", "cases"


def look(case: Case, store: ServerStore | None = None) -> Graph:
    """The run sheet of a case as it stands, from stored results alone."""
    store = store or ServerStore()
    store.known(case.last_good.values())
    return resolve(document_of(case), standard(), store, demanded=frozenset(case.demanded))


def remember_good(case: Case, graph: Graph) -> None:
    """Keep the newest good result of every node, for the stage to show while a newer one is worked out."""
    good = dict(case.last_good)
    for node in graph.nodes.values():
        if node.state in ("done", "look") and node.manifest is not None:
            good[node.id] = node.manifest.key
    if good != case.last_good:
        Case.objects.filter(pk=case.pk).update(last_good=good)
        case.last_good = good


def steps_left(case: Case) -> bool:
    """Is there a step that could be worked out now and is not?"""
    return any(node.state == "ready" for node in look(case).nodes.values())


def ask_for_work(case: Case) -> None:
    """Inside the transaction of a change: nothing to do (an undo finds all its results), or a job with it."""
    graph = look(case)
    case.needs_work = any(n.state == "ready" for n in graph.nodes.values()) and not case.held
    case.save(update_fields=["needs_work"])
    remember_good(case, graph)
    if case.needs_work:
        enqueue(case.pk)
    announce({"case": case.number, "kind": "revision", "revision": case.revision})


def enqueue(case_id: int) -> None:
    """One waiting job a case at most; one running job a case at most."""
    name = f"case-{case_id}"
    try:
        with transaction.atomic():
            app.configure_task(TASK, queue=QUEUE, lock=name, queueing_lock=name).defer(case_id=case_id)
    except AlreadyEnqueued:
        pass


def announce(event: dict[str, Any]) -> None:
    """Tell every open browser. Goes out when the surrounding transaction commits."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_notify(%s, %s)", [CHANNEL, json.dumps(event)])
