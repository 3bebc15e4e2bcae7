"""What broke, for the log: where in the code and of which kind, but no word of what it said: that may hold a patient's name."""

from __future__ import annotations

import traceback


def where_it_broke(error: BaseException) -> str:
    """The kinds of the errors and the places they went through, innermost last."""
    lines: list[str] = []
    at: BaseException | None = error
    while at is not None and len(lines) < 60:
        places = [f"  {f.filename}:{f.lineno} in {f.name}" for f in traceback.extract_tb(at.__traceback__)]
        lines = [f"{type(at).__module__}.{type(at).__qualname__}", *places, *lines]
        at = at.__cause__ or at.__context__
    return "\n".join(lines)
