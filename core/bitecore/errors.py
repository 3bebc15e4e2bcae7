"""Errors that reach a person: each has a stable code, a sentence, and where there is one a place in space."""

from __future__ import annotations

from collections.abc import Sequence


class BenchError(Exception):
    """Something a person can act on.

    code : stable, lower-case, hyphenated; the message says what is wrong and what to do.
    point_mm, radius_mm : the place on the model, in the piece's home frame, where there is one.
    """

    code = "error"

    def __init__(
        self,
        message: str,
        *,
        code: str | None = None,
        point_mm: Sequence[float] | None = None,
        radius_mm: float = 1.0,
    ) -> None:
        super().__init__(message)
        self.message = message
        if code is not None:
            self.code = code
        self.point_mm = None if point_mm is None else [float(x) for x in point_mm]
        self.radius_mm = float(radius_mm)


class UnreadableFile(BenchError):
    """A file that cannot be used as it is."""

    code = "unreadable-file"


class BadMesh(BenchError):
    """Arrays that do not describe a triangle mesh."""

    code = "bad-mesh"


class BadSetting(BenchError):
    """A setting outside its bounds or not known to its step."""

    code = "bad-setting"


class StepFailed(BenchError):
    """A step cannot be done on this input; the last good result stays."""

    code = "step-failed"


class Cancelled(Exception):
    """The person took the computation back. Not an error: nothing is reported."""
