"""Asking for work, and saying how far a case is."""

from __future__ import annotations

import contextlib
import hashlib
import json
from datetime import timedelta
from typing import Any

from django.db import connection, transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from bitecore.engine.document import SheetDocument
from bitecore.engine.graph import Graph
from bitecore.engine.resolve import resolve

from .kinds import Kind, document_of, kind_of, lock_of
from .models import Owner, Worked
from .owning import use_results
from .store import ServerStore

CHANNEL = "bench"
TASK, VIEW_TASK, QUEUE, FRONT = "work", "view", "cases", "front"
# A browser that has a case open says so every eight seconds; a person waits for a change as long as it may take.
OPEN_FOR, WAITED_FOR = timedelta(seconds=25), timedelta(minutes=2)


def look(row: Worked, store: ServerStore | None = None, *, document: Any = None) -> Any:
    """The sheet as it stands, from stored results alone. document : its newest, where it is at hand."""
    store = store or ServerStore()
    document = document or document_of(row)
    store.known([*row.last_good.values(), *accepted_keys(document)])
    return resolve(document, kind_of(row).sheet, store, demanded=frozenset(row.demanded))


def accepted_keys(document: SheetDocument) -> list[str]:
    """Results that were accepted: they are kept as they are."""
    return [seen.key for accepted in document.accepted.values() for seen in accepted.seen.values()]


def results_of(graph: Graph) -> list[str]:
    """Keys of the results that stand on a sheet now."""
    found = (n.manifest for n in graph.nodes.values())
    return [manifest.key for manifest in found if manifest and manifest.key and not manifest.passing]


def remember_good(row: Worked, graph: Graph) -> None:
    """Keep the newest good result of every node, for the stage to show while a newer one is worked out."""
    good = dict(row.last_good)
    for node in graph.nodes.values():
        if node.state in ("done", "look") and node.manifest is not None:
            good[node.id] = node.manifest.key
        elif node.state == "off":
            good.pop(node.id, None)
    if good != row.last_good:
        type(row)._default_manager.filter(pk=row.pk).update(last_good=good)
        row.last_good = good


def steps_left(row: Worked) -> bool:
    """Is there a step that could be worked out now and is not?"""
    return any(node.state == "ready" for node in look(row).nodes.values())


def ask_for_work(row: Worked) -> None:
    """Inside the transaction of a change: nothing to do (an undo finds all its results), or a job with it."""
    kind, document = kind_of(row), document_of(row)
    graph = look(row, document=document)
    row.looked = row.revision, graph
    # Also what the stage goes on showing meanwhile, and what was accepted.
    lost = use_results(row.owner_id, results_of(graph), also=[*row.last_good.values(), *accepted_keys(document)])
    row.needs_work = (lost or any(n.state == "ready" for n in graph.nodes.values())) and not row.held
    row.trouble, row.retry, row.retries = "", None, 0
    row.save(update_fields=["needs_work", "trouble", "retry", "retries"])
    remember_good(row, graph)
    kind.summarise(row, document, graph)
    if row.needs_work:
        enqueue(row)
    say(row, kind="revision", revision=row.revision)


def count_uses(row: Worked) -> None:
    """Write down which results something from before there were uses needs."""
    use_results(row.owner_id, [*results_of(look(row)), *row.last_good.values()])
    Owner.objects.filter(pk=row.owner_id).update(counted=True)


def enqueue(row: Worked) -> None:
    """One waiting job and one running job for each at most. What somebody has open goes to the front."""
    kind = kind_of(row)
    name, rank = lock_of(kind, row.pk), kind.rank(row)
    queue = FRONT if rank else QUEUE
    try:
        with transaction.atomic():
            app.configure_task(TASK, queue=queue, priority=rank, lock=name, queueing_lock=name).defer(kind=kind.name, pk=row.pk)
    except AlreadyEnqueued:
        if rank:
            bring_forward(kind, row.pk, rank)


def ask_for_view(digest: str) -> None:
    """The full copy of a mesh for the stage, made by the worker before anything else."""
    with contextlib.suppress(AlreadyEnqueued), transaction.atomic():
        app.configure_task(VIEW_TASK, queue=FRONT, priority=3, queueing_lock=f"view-{digest}").defer(digest=digest)


def bring_forward(kind: Kind[Any], pk: int, rank: int) -> None:
    """A job that waits among those nobody looks at goes to the front."""
    waiting = "status = 'todo' AND lock = %s AND (queue_name <> %s OR priority < %s)"
    with connection.cursor() as cursor:
        cursor.execute(
            f"UPDATE procrastinate_jobs SET queue_name = %s, priority = %s WHERE {waiting} RETURNING id",
            [FRONT, rank, lock_of(kind, pk), FRONT, rank],
        )
        for (job,) in cursor.fetchall():
            # As procrastinate itself tells its workers of a new job.
            said = json.dumps({"type": "job_inserted", "job_id": job})
            cursor.execute("SELECT pg_notify(%s, %s)", [f"procrastinate_queue_v1#{FRONT}", said])


def say(row: Worked, **event: Any) -> None:
    """Tell every open browser something of this one."""
    kind = kind_of(row)
    announce({kind.name: kind.called(row), **event})


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
