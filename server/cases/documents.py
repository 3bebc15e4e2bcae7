"""The newest document of a case."""

from __future__ import annotations

from bitecore.runsheet import CaseDocument

from .models import Case, Revision


def newest_revision(case: Case) -> Revision:
    """Every case has one from the moment it is opened."""
    return case.revisions.order_by("-number")[0]


def document_of(case: Case) -> CaseDocument:
    return CaseDocument.model_validate(newest_revision(case).document)
