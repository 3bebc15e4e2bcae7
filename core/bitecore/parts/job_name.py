"""What a print is called at its printer: by a pattern of the house, in letters that every printer takes, and never by a person's name."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import AfterValidator

WORDS = ("number", "date", "printer", "resin")
_MOST = 60


def check_job(pattern: str) -> str:
    """A pattern that can name prints. Raises ValueError with a sentence."""
    known = ", ".join(f"{{{word}}}" for word in WORDS)
    for word in re.findall(r"\{([^{}]*)\}", pattern):
        if word not in WORDS:
            raise ValueError(f"{{{word}}} does not leave with a plate; known are {known}")
    if re.search(r"[{}]", re.sub(r"\{[^{}]*\}", "", pattern)):
        raise ValueError(f"a brace stands alone; words are written like {known}")
    return pattern


JobPattern = Annotated[str, AfterValidator(check_job)]
# How the setting of it is put to a person, in a case and on a plate of several.
JOB_WORDS: dict[str, Any] = {
    "min_length": 1, "max_length": 80, "label": "Called at the printer", "main": False,
    "help": "From {number}, {date}, {printer} and {resin}; a count is put behind it.",
}  # fmt: skip


def job_stem(pattern: str, words: Mapping[str, str]) -> str:
    """The name without its count. words : of WORDS; what no printer takes in a name becomes a dash."""
    text = re.sub(r"\{(\w+)\}", lambda found: words.get(found[1], ""), pattern)
    plain = unicodedata.normalize("NFKD", text.replace("ß", "ss")).encode("ascii", "ignore").decode()
    name = re.sub(r"[^A-Za-z0-9._-]+", "-", plain).strip("-._")[:_MOST].rstrip("-._")
    return name or words["number"]
