"""A plate with bodies from several cases: a sheet of its own on the same engine as the run sheet."""

from .document import PlateBody, PlateDocument
from .sheet import PLATE, PlateSheet

__all__ = ["PLATE", "PlateBody", "PlateDocument", "PlateSheet"]
