"""The shelves of the house: purposes, practices, printers, resins. Every change of a record is a new row; a case keeps the one
it took."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass, field
from typing import Any

from django.db import connection, transaction

from accounts.services import is_lead
from bitecore.apart import apart
from bitecore.engine.document import Layer
from bitecore.errors import UnreadableFile
from bitecore.parts.shelf import BRINGS, BUILT_IN, SHELVES, Record, checked
from bitecore.runsheet import standard
from bitecore.text import plain
from ground.errors import Refused

from .models import ShelfRecord
from .services import limits

_LONGEST_NAME = 120
# A longer text is a drawing.
_PLAIN = 200


@dataclass(frozen=True)
class OnShelf:
    """A record as it is now.

    steps : settings it brings, {step: {key: value}}
    data  : what it holds besides
    """

    id: str
    name: str
    revision: int = 0
    steps: dict[str, dict[str, Any]] = field(default_factory=dict)
    versions: dict[str, int] = field(default_factory=dict)
    data: dict[str, float | str | None] = field(default_factory=dict)

    def layer(self) -> Layer:
        """Its settings, as a case takes them up."""
        return Layer(id=self.id, name=self.name, revision=self.revision, steps=self.steps, versions=self.versions)

    def record(self) -> Record:
        return Record(name=self.name, revision=self.revision, data=self.data)


def on(shelf: str) -> dict[str, OnShelf]:
    """The records of a shelf by their ids, in the order of their names. Raises Refused for a shelf that is none."""
    if shelf not in SHELVES:
        raise Refused(f"There is no shelf “{plain(shelf)[:40]}”. The shelves are: {', '.join(SHELVES)}.", code="no-shelf", status=404)
    known, brings = standard(), BRINGS.get(shelf, {})
    found = {}
    for ident, r in BUILT_IN[shelf].items():
        steps = brings.get(ident, {})
        found[ident] = OnShelf(ident, r.name, steps=steps, versions={name: known[name].version for name in steps}, data=r.data)
    for row in ShelfRecord.objects.filter(shelf=shelf).order_by("ident", "revision"):
        if row.gone:
            found.pop(row.ident, None)
            continue
        steps = {name: known[name].upgraded(values, row.versions.get(name)) for name, values in row.steps.items() if name in known}
        versions = {name: known[name].version for name in steps}
        found[row.ident] = OnShelf(row.ident, row.name, row.revision, steps, versions, row.data)
    return dict(sorted(found.items(), key=lambda item: item[1].name.lower()))


def named(shelf: str, text: str) -> OnShelf | None:
    """The record of this id, or else of this name."""
    records = on(shelf)
    wanted = text.strip().lower()
    return records.get(text.strip()) or next((r for r in records.values() if r.name.lower() == wanted), None)


def put(user: Any, shelf: str, ident: str, name: str, steps: dict[str, dict[str, Any]], data: dict[str, Any]) -> OnShelf:
    """A record changed, or (without an id) a new one. Only a lead may."""
    if not is_lead(user):
        raise Refused("Only a lead changes what is on the shelves.", code="lead-only", status=403)
    known = on(shelf)
    if ident and ident not in known:
        raise Refused("This is not on the shelf any more.", code="no-record", status=404)
    # Before anybody waits for anything: a drawing takes its time.
    holds = _data(shelf, data)
    with transaction.atomic():
        _one_at_a_time(shelf)
        return _put(user, shelf, ident, name, steps, holds)


def practice(user: Any, name: str) -> OnShelf:
    """The practice of this name; one that is not known yet is put on the shelf, without wishes of its own."""
    known = named("practice", name)
    if known is not None:
        return known
    with transaction.atomic():
        _one_at_a_time("practice")
        # A colleague may just have put it there.
        return named("practice", name) or _put(user, "practice", "", name, {}, {})


@transaction.atomic
def take_off(user: Any, shelf: str, ident: str) -> None:
    """Nobody chooses it any more; cases that have it keep it."""
    if not is_lead(user):
        raise Refused("Only a lead changes what is on the shelves.", code="lead-only", status=403)
    _one_at_a_time(shelf)
    known = on(shelf).get(ident)
    if known is None:
        raise Refused("This is not on the shelf any more.", code="no-record", status=404)
    _row(user, shelf, known, gone=True)


def _one_at_a_time(shelf: str) -> None:
    """To the end of the transaction nobody else changes this shelf."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 2))", [shelf])


def _put(user: Any, shelf: str, ident: str, name: str, steps: dict[str, dict[str, Any]], data: dict[str, Any]) -> OnShelf:
    records = on(shelf)
    name = plain(name).strip()[:_LONGEST_NAME]
    if not name:
        raise Refused("It needs a name.", code="invalid", status=422)
    if ident and ident not in records:
        raise Refused("This is not on the shelf any more.", code="no-record", status=404)
    if any(r.name.lower() == name.lower() and r.id != ident for r in records.values()):
        raise Refused(f"“{name}” is on the shelf already.", code="same-name", status=409)
    for step, values in steps.items():
        standard()[step].check(values)
    made = OnShelf(ident or _ident(shelf, name), name, 0, {s: v for s, v in steps.items() if v}, {}, data)
    return _row(user, shelf, made)


def _data(shelf: str, data: dict[str, Any]) -> dict[str, float | str | None]:
    """What the record holds, checked. A stranger's drawing is worked on in a child with limits. What is left empty is as it ships."""
    fields = SHELVES[shelf].model_fields
    given = {key: value for key, value in data.items() if value is not None or key not in fields or fields[key].default is None}
    try:
        if any(isinstance(value, str) and len(value) > _PLAIN for value in given.values()):
            kept: dict[str, float | str | None] = apart("the mark", checked, shelf, given, limits=limits())
            return kept
        return checked(shelf, given)
    except UnreadableFile as error:
        raise Refused(error.message, code="invalid", status=422) from error


def _ident(shelf: str, name: str) -> str:
    """A short id from the name that no record of the shelf has or had."""
    ascii_name = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    stem = re.sub(r"[^a-z0-9]+", "-", ascii_name).strip("-")[:40] or shelf
    given = {*BUILT_IN[shelf], *ShelfRecord.objects.filter(shelf=shelf).values_list("ident", flat=True)}
    return next(i for n in range(1, len(given) + 2) if (i := stem if n == 1 else f"{stem}-{n}") not in given)


def _row(user: Any, shelf: str, record: OnShelf, *, gone: bool = False) -> OnShelf:
    last = ShelfRecord.objects.select_for_update().filter(shelf=shelf, ident=record.id).order_by("-revision").first()
    revision = last.revision + 1 if last else 1
    versions = {name: standard()[name].version for name in record.steps}
    ShelfRecord.objects.create(
        shelf=shelf, ident=record.id, revision=revision, name=record.name, steps=record.steps, versions=versions, data=record.data,
        gone=gone, author=user,
    )  # fmt: skip
    return OnShelf(record.id, record.name, revision, record.steps, versions, record.data)
