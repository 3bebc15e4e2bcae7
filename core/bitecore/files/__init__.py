"""Open formats in and out."""

from ..limits import Limits
from .read import ReadMesh, SourceFile, read_mesh, unpack

__all__ = ["Limits", "ReadMesh", "SourceFile", "read_mesh", "unpack"]
