"""A request that cannot be done."""

from __future__ import annotations

from bitecore.errors import BenchError


class Refused(BenchError):
    """A request that cannot be done, with the HTTP status that says so."""

    code = "refused"

    def __init__(self, message: str, *, code: str = "refused", status: int = 400, more: dict | None = None) -> None:
        super().__init__(message, code=code)
        self.status = status
        self.more = more or {}
