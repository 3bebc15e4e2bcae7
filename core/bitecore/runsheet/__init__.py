"""The run sheet of a case: scans go through small pure steps and become bodies, worked out again from any change."""

from ..blobs import MemoryBlobs
from ..engine.evaluate import Evaluation, evaluate
from ..engine.model import Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ..engine.registry import Registry
from ..engine.resolve import resolve
from ..engine.store import FolderStore, Manifest, MemoryStore, ResultStore
from .document import CaseDocument, PieceEntry
from .sheet import CASE, CaseSheet, standard

__all__ = [
    "CASE",
    "CaseDocument",
    "CaseSheet",
    "Evaluation",
    "Flag",
    "FolderStore",
    "Inputs",
    "Manifest",
    "MemoryBlobs",
    "MemoryStore",
    "Need",
    "PieceEntry",
    "Place",
    "Reading",
    "Registry",
    "ResultStore",
    "Step",
    "StepResult",
    "StepSettings",
    "evaluate",
    "resolve",
    "setting",
    "standard",
]
