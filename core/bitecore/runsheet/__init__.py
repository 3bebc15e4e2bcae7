"""The run sheet: scans go through small pure steps and become bodies, worked out again from any change."""

from .document import CaseDocument, PieceEntry
from .evaluate import Evaluation, evaluate
from .model import Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from .registry import Registry, standard
from .store import FolderStore, Manifest, MemoryStore, ResultStore

__all__ = [
    "CaseDocument",
    "Evaluation",
    "Flag",
    "FolderStore",
    "Inputs",
    "Manifest",
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
    "setting",
    "standard",
]
