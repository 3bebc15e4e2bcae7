"""Bottles of resin: what is in stock, which one is in which printer, and what prints take of them."""

from __future__ import annotations

import contextlib
from typing import Any

from django.db import transaction
from django.utils import timezone

from bitecore.text import plain
from ground.errors import Refused
from house.shelves import on
from runs.services import announce

from . import printers
from .models import AT_PRINTER, Bottle, BottleUse, Print

_LEAST_ML, _MOST_ML, _LONGEST_LOT = 10.0, 20_000.0, 60


def in_stock() -> list[Bottle]:
    return list(Bottle.objects.filter(ended__isnull=True).prefetch_related("uses"))


def in_bay(bay: str) -> Bottle | None:
    """The one a printer has in it, as far as anybody said."""
    return Bottle.objects.filter(bay=bay, ended__isnull=True).first() if bay else None


def added(user: Any, resin: str, lot: str, ml: float) -> Bottle:
    """A new one, onto the shelf."""
    record = on("resin").get(resin)
    if record is None:
        raise Refused("This resin is not on the shelf any more.", code="no-record", status=404)
    lot = plain(lot).strip()[:_LONGEST_LOT]
    row = Bottle.objects.create(resin=resin, called=record.name, lot=lot, held_ml=_within(ml, _LEAST_ML), added_by=user)
    _told("")
    return row


def put_into(pk: int, bay: str) -> Bottle:
    """Into a printer, out of which the one before goes onto the shelf; an empty name takes it out. What is printed there takes of it
    from now on."""
    if bay and bay not in printers.addresses():
        raise Refused("This printer is not connected.", code="no-bay", status=409)
    with transaction.atomic():
        row = _locked(pk)
        before, row.bay = row.bay, bay
        if before == bay:
            return row
        for at in filter(None, (before, bay)):
            _settle(at)
        Bottle.objects.filter(bay=bay, ended__isnull=True).exclude(bay="").update(bay="")
        row.save(update_fields=["bay"])
        if bay:
            for printing in _at_work(bay):
                _opened(printing, row)
    if bay:
        # One that measures what is in it is told; one that does not know better shows what it measures.
        with contextlib.suppress(printers.Broken, printers.Declined):
            printers.bottle(bay, row.left_ml)
    _told(bay or before)
    return row


def corrected(pk: int, ml: float) -> Bottle:
    """There is so much left in it."""
    with transaction.atomic():
        row = _locked(pk)
        _settle(row.bay)
        row.held_ml += _within(ml, 0.0) - (row.held_ml - sum(use.ml for use in row.uses.all()))
        row.save(update_fields=["held_ml"])
    if row.bay:
        with contextlib.suppress(printers.Broken, printers.Declined):
            printers.bottle(row.bay, row.left_ml)
    _told(row.bay)
    return row


def ended(pk: int) -> None:
    """It is empty, or was thrown away: it is in stock no more, its prints keep it."""
    with transaction.atomic():
        row = _locked(pk)
        _settle(row.bay)
        before, row.bay, row.ended = row.bay, "", timezone.now()
        row.save(update_fields=["bay", "ended"])
    _told(before)


def waits_for(row: Print) -> str:
    """Why a print does not begin, in a sentence: the printer has another resin in it. Empty where nothing is known of that."""
    bottle = in_bay(row.bay)
    if bottle is None or not row.resin_ident or bottle.resin == row.resin_ident:
        return ""
    return f"It waits for a bottle of {row.resin}: {bottle.number} in the {row.printer} is {bottle.called}."


def begun(row: Print) -> None:
    """It takes of the bottle that is in its printer."""
    bottle = in_bay(row.bay)
    if bottle is not None and not row.bottles.filter(over=False).exists():
        BottleUse.objects.get_or_create(print=row, since=0, over=False, defaults={"bottle": bottle})


def begins_anew(row: Print) -> None:
    """What it took until now it has taken."""
    row.bottles.update(over=True)


def used(row: Print, layer: int) -> None:
    """So many layers are cured."""
    last = row.bottles.filter(over=False).last()
    if last is None or not row.ml_by_layer:
        return
    ml = _until(row, layer) - _until(row, last.since)
    if ml != last.ml:
        last.ml = ml
        last.save(update_fields=["ml"])


def _until(row: Print, layer: int) -> float:
    return float(row.ml_by_layer[min(max(layer, 0), len(row.ml_by_layer) - 1)])


def _at_work(bay: str) -> list[Print]:
    return list(Print.objects.filter(bay=bay, state__in=AT_PRINTER, began__isnull=False))


def _settle(bay: str) -> None:
    """What is printed there has taken what it has by now."""
    for row in _at_work(bay) if bay else ():
        used(row, row.layer)


def _opened(row: Print, bottle: Bottle) -> None:
    """From this layer on it takes of that one."""
    last = row.bottles.filter(over=False).last()
    if last is None or last.bottle_id != bottle.pk:
        BottleUse.objects.update_or_create(print=row, since=row.layer, over=False, defaults={"bottle": bottle, "ml": 0.0})


def _within(ml: float, least: float) -> float:
    if not least <= ml <= _MOST_ML:
        raise Refused(f"A bottle holds from {least:.0f} to {_MOST_ML:,.0f} ml.", code="invalid", status=422)
    return float(ml)


def _locked(pk: int) -> Bottle:
    """With all that are in stock: of two people who put two into one printer the second waits."""
    rows = Bottle.objects.select_for_update().filter(ended__isnull=True).order_by("id")
    row = next((each for each in rows if each.pk == pk), None)
    if row is None:
        raise Refused("There is no such bottle any more.", code="no-bottle", status=404)
    return row


def _told(bay: str) -> None:
    announce({"kind": "bay", "bay": bay})
