"""How much is accepted. Light to import: settings read it before anything else is loaded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from urllib.parse import urlsplit

# The variable of the environment that sets each, with the least and the most that make sense.
VARIABLES = {
    "triangles": ("BENCH_TRIANGLES", 1_000, 50_000_000),
    "drop_bytes": ("BENCH_DROP_BYTES", 10_000, 20_000_000_000),
    "read_seconds": ("BENCH_READ_SECONDS", 1, 3_600),
    "read_bytes": ("BENCH_READ_BYTES", 50_000_000, 64_000_000_000),
}


class BadEnvironment(ValueError):
    """A variable of the environment that cannot be meant, as a sentence."""


def whole_number(environment: Mapping[str, str], variable: str, default: int, least: int, most: int) -> int:
    """A whole number from the environment. Raises BadEnvironment."""
    text = environment.get(variable, "").strip()
    if not text:
        return default
    if not text.isascii() or not text.isdigit() or len(text) > 12 or not least <= int(text) <= most:
        raise BadEnvironment(f"{variable} takes a whole number from {least:,} to {most:,}, not “{text[:40]}”.")
    return int(text)


def addresses(environment: Mapping[str, str], variable: str) -> dict[str, str]:
    """{id: http address} from "id=http://host:port id=…"; none for nothing, or for the word none. Raises BadEnvironment."""
    out = {}
    for pair in environment.get(variable, "").replace("none", "").split():
        ident, sign, address = pair.partition("=")
        try:
            part = urlsplit(address)
            good = bool(sign and ident and part.scheme == "http" and part.hostname and part.port)
        except ValueError:
            good = False
        if not good:
            raise BadEnvironment(f"{variable} is written like wren=http://127.0.0.1:8440, not “{pair[:60]}”.")
        out[ident] = address
    return out


@dataclass(frozen=True)
class Limits:
    """How much is accepted.

    triangles    : per scan
    drop_bytes   : all files of one drop, packed and unpacked
    files        : scans of one drop
    read_seconds : of a processor's time to read one scan
    read_bytes   : of memory to read it in
    """

    triangles: int = 1_500_000
    drop_bytes: int = 300_000_000
    files: int = 200
    read_seconds: int = 8
    read_bytes: int = 1_000_000_000

    @classmethod
    def of(cls, environment: Mapping[str, str]) -> Limits:
        """What the environment changes. Raises BadEnvironment."""
        defaults: dict[str, int] = {f.name: int(f.default) for f in fields(cls)}  # type: ignore[arg-type]
        return cls(**{name: whole_number(environment, v, defaults[name], lo, hi) for name, (v, lo, hi) in VARIABLES.items()})
