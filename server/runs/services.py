"""Asking for work, and saying how far a case is."""

from __future__ import annotations

import hashlib
import json
from datetime import timedelta
from typing import Any

from django.db import connection, transaction
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from bitecore.runsheet import CaseDocument, standard
from bitecore.runsheet.graph import Graph, resolve
from cases.documents import document_of
from cases.models import Case
from cases.trays import keep_summary

from .models import Owner
from .owning import use_results
from .store import ServerStore

CHANNEL = "bench"
TASK, QUEUE, FRONT = "work_case", "cases", "front"
# A browser that has a case open says so every eight seconds; a person waits for a change as long as it may take.
OPEN_FOR, WAITED_FOR = timedelta(seconds=25), timedelta(minutes=2)


def look(case: Case, store: ServerStore | None = None, *, document: CaseDocument | None = None) -> Graph:
    """The run sheet of a case as it stands, from stored results alone. document : its newest, where it is at hand."""
    store = store or ServerStore()
    store.known(case.last_good.values())
    return resolve(document or document_of(case), standard(), store, demanded=frozenset(case.demanded))


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
    document = document_of(case)
    graph = look(case, document=document)
    there = [n.manifest.key for n in graph.nodes.values() if n.manifest and n.manifest.key]
    # Also what the stage goes on showing meanwhile.
    lost = use_results(case.owner_id, there, also=case.last_good.values())
    case.needs_work = (lost or any(n.state == "ready" for n in graph.nodes.values())) and not case.held
    case.trouble, case.retry, case.retries = "", None, 0
    case.save(update_fields=["needs_work", "trouble", "retry", "retries"])
    remember_good(case, graph)
    keep_summary(case, document, graph)
    if case.needs_work:
        enqueue(case)
    announce({"case": case.number, "kind": "revision", "revision": case.revision})


def count_uses(case: Case) -> None:
    """Write down which results a case from before there were uses needs."""
    there = [n.manifest.key for n in look(case).nodes.values() if n.manifest and n.manifest.key]
    use_results(case.owner_id, [*there, *case.last_good.values()])
    Owner.objects.filter(pk=case.owner_id).update(counted=True)


def rank_of(case: Case) -> int:
    """2: somebody has it open and waits for what was changed; 1: somebody has it open; 0: nobody has."""
    now = timezone.now()
    if not case.presence_set.filter(seen__gt=now - OPEN_FOR).exists():
        return 0
    return 2 if case.wanted is not None and case.wanted > now - WAITED_FOR else 1


def enqueue(case: Case) -> None:
    """One waiting job a case at most; one running job a case at most. What somebody has open goes to the front."""
    name, rank = f"case-{case.pk}", rank_of(case)
    queue = FRONT if rank else QUEUE
    try:
        with transaction.atomic():
            app.configure_task(TASK, queue=queue, priority=rank, lock=name, queueing_lock=name).defer(case_id=case.pk)
    except AlreadyEnqueued:
        if rank:
            bring_forward(case, rank)


def bring_forward(case: Case, rank: int) -> None:
    """A job that waits among those nobody looks at goes to the front."""
    waiting = "status = 'todo' AND lock = %s AND (queue_name <> %s OR priority < %s)"
    with connection.cursor() as cursor:
        cursor.execute(
            f"UPDATE procrastinate_jobs SET queue_name = %s, priority = %s WHERE {waiting} RETURNING id",
            [FRONT, rank, f"case-{case.pk}", FRONT, rank],
        )
        for (job,) in cursor.fetchall():
            # As procrastinate itself tells its workers of a new job.
            said = json.dumps({"type": "job_inserted", "job_id": job})
            cursor.execute("SELECT pg_notify(%s, %s)", [f"procrastinate_queue_v1#{FRONT}", said])


def announce(event: dict[str, Any]) -> None:
    """Tell every open browser. Goes out when the surrounding transaction commits."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_notify(%s, %s)", [CHANNEL, json.dumps(event)])


def end_streams(session: str | None) -> None:
    """Whoever hears events by this session hears no more."""
    if session:
        announce({"kind": "end", "session": name_of(session)})


def name_of(session: str) -> str:
    """A session in a notification: not the key itself."""
    return hashlib.sha256(f"stream {session}".encode()).hexdigest()[:24]
