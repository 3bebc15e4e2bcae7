"""Open formats in and out."""

from .read import Limits, ReadMesh, SourceFile, read_mesh, unpack

__all__ = ["Limits", "ReadMesh", "SourceFile", "read_mesh", "unpack"]
