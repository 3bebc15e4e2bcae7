"""The newest document of a case."""

from __future__ import annotations

from bitecore.runsheet import CaseDocument
from config.refusing import Refused

from .models import Case, Revision


class CaseGone(Refused):
    """Deleted by a colleague while it was asked for."""


def newest_revision(case: Case) -> Revision:
    """Every case has one from the moment it is opened. Raises CaseGone."""
    row = case.revisions.order_by("-number").first()
    if row is None:
        raise CaseGone(f"There is no case {case.number} any more.", code="no-case", status=404)
    return row


def document_of(case: Case) -> CaseDocument:
    return CaseDocument.model_validate(newest_revision(case).document)
