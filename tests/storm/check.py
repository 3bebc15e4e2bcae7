"""Every promise, held against what is there."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from django.conf import settings

from bitecore.blobs import is_digest
from cases.models import AuditLine, Case
from runs import owning
from runs.models import BlobUse, Result, ResultBlob
from runs.services import look
from tests.storm.house import House


def promises(ledger: list[dict], house: House) -> dict[str, Any]:
    """{counts, broken}: broken is empty where everything holds."""
    broken: list[str] = []
    live = {case.number: case for case in Case.objects.all()}
    deleted = set(AuditLine.objects.filter(action="delete").values_list("case_number", flat=True))
    for entry in ledger:
        number = entry["number"]
        if number in deleted:
            if number in live:
                broken.append(f"{number}: deleted and there")
        elif number not in live:
            broken.append(f"{number}: {entry['what']} was answered and the case is not there")
        else:
            broken += _kept(live[number], entry)
    broken += [f"{e['number']}: deletion was answered and it is there" for e in ledger if e["what"] == "delete" and e["number"] in live]
    for case in live.values():
        broken += _worked_out(case)
    broken += _blobs()
    counts = {what: sum(e["what"] == what for e in ledger) for what in ("drop", "set", "delete")}
    return {"promises": counts, "cases left": len(live), "settled after s": round(house.settled, 1), "broken": broken}


def _kept(case: Case, entry: dict) -> list[str]:
    if entry["what"] == "drop":
        uses = set(BlobUse.objects.filter(owner=case.owner_id).values_list("sha256", flat=True))
        return [f"{case.number}: scan {d[:8]} was taken and is not there" for d in entry["scans"] if d not in uses]
    if entry["what"] == "set":
        row = case.revisions.filter(number=entry["revision"]).first()
        changes = [(c["path"], c["after"]) for c in row.changes] if row else []
        # A value that was there already makes no revision of its own.
        if (entry["path"], entry["value"]) not in changes and entry["value"] not in str(row.document if row else ""):  # type: ignore[operator]
            return [f"{case.number}: {entry['path']} = {entry['value']} was taken and is not in revision {entry['revision']}"]
    return []


def _worked_out(case: Case) -> list[str]:
    numbers = list(case.revisions.order_by("number").values_list("number", flat=True))
    broken = [] if numbers == list(range(1, case.revision + 1)) else [f"{case.number}: revisions {numbers[-3:]} of {case.revision}"]
    if case.held:
        return broken  # given up after many kills, and said so: a person presses Go on
    states = {node.id: node.state for node in look(case).nodes.values() if not node.step.on_demand}
    left = [f"{name} {state}" for name, state in states.items() if state in ("ready", "blocked")]
    return broken + ([f"{case.number}: not worked out by itself: {', '.join(left[:4])}; {case.trouble}"] if left else [])


def _blobs() -> list[str]:
    root = Path(settings.BLOB_ROOT)
    there = {p.name for p in root.glob("??/*") if is_digest(p.name)}
    wanted = set(BlobUse.objects.values_list("sha256", flat=True)) | set(ResultBlob.objects.values_list("sha256", flat=True))
    broken = [f"blob {d[:8]} is referred to and not there" for d in sorted(wanted - there)]
    for path in root.glob("??/*"):
        if path.name in wanted and hashlib.sha256(path.read_bytes()).hexdigest() != path.name:
            broken.append(f"blob {path.name[:8]} is not what its name says")
    owning.sweep_orphans(grace_s=-1)
    left = {p.name for p in root.glob("??/*") if is_digest(p.name)} - wanted
    broken += [f"blob {d[:8]} is nobody's and stays" for d in sorted(left)]
    broken += [f"a failure was kept: {r.step}" for r in Result.objects.filter(manifest__flags__contains=[{"code": "disk-full"}])]
    broken += [f"a failure was kept: {r.step}" for r in Result.objects.filter(manifest__flags__contains=[{"code": "broke-down"}])]
    return broken
