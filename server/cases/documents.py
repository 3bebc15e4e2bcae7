"""The newest document of a case."""

from __future__ import annotations

from bitecore.runsheet import CaseDocument
from runs.kinds import GoneMeanwhile

from .models import Case


def document_of(case: Case) -> CaseDocument:
    """Raises GoneMeanwhile for one that was deleted since it was read."""
    if not case.revision:
        raise GoneMeanwhile(f"There is no case {case.number} any more.", code="no-case", status=404)
    return CaseDocument.model_validate(case.document)
