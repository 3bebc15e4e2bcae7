"""What a printer may answer (docs/printers.md). A printer is a stranger: what is not of this form is not believed."""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError

# A longer answer is not read to its end.
MOST_BYTES = 64_000
_MOST_JOBS = 200

_Text = Annotated[str, StringConstraints(max_length=400, pattern=r"^[^\x00-\x08\x0b\x0c\x0e-\x1f]*$")]
_Name = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,79}$")]
_Hash = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{64}$")]
M = TypeVar("M", bound="_Said")


class Odd(ValueError):
    """It is not of the form."""


class _Said(BaseModel):
    # What a newer printer says besides is passed over.
    model_config = ConfigDict(extra="ignore", frozen=True, allow_inf_nan=False)


class Job(_Said):
    """layer : how many are cured; seconds_left : of the printer's own time"""

    name: _Name
    sha256: _Hash
    state: Literal["waiting", "printing", "paused", "stopped", "done", "cancelled"]
    layer: int = Field(ge=0, le=1_000_000)
    seconds_left: float | None = Field(None, ge=0, le=1e8)


class Status(_Said):
    """resin_ml : as it measures it, None where it does not"""

    state: Literal["idle", "printing", "stopped"]
    says: _Text = ""
    fault: Annotated[str, StringConstraints(max_length=40, pattern=r"^[a-z-]*$")] = ""
    resin_ml: float | None = Field(None, ge=0, le=1e6)
    stand_in: bool = False
    jobs: list[Job] = Field(max_length=_MOST_JOBS)


class PartThere(_Said):
    bytes: int = Field(ge=0, le=10**12)


class No(_Said):
    """Why it declines."""

    code: Annotated[str, StringConstraints(max_length=40, pattern=r"^[a-z0-9-]*$")] = ""
    message: _Text = "It says no."


def of_form(model: type[M], said: Any) -> M:
    """Raises Odd."""
    try:
        return model.model_validate(said)
    except ValidationError as error:
        raise Odd(f"{model.__name__}: {error.error_count()} wrong") from error
