"""What the parts of a jaw's model are by their names: p1.die-16 is a die, p1.hinge-left is printed by itself too."""

from __future__ import annotations

from collections.abc import Mapping

# The part a tooth is as a body by itself, by what is said of it.
PART = {"die": "die", "loose": "loose"}
# A jaw's model and what lies on it, as one body.
JOINED = "joined"


def part_of(address: str) -> str:
    """The name of a part; empty for a jaw's model."""
    return address.partition(".")[2]


def is_die(part: str) -> bool:
    """Is this name of a part that of a die, or of a neighbour that comes out?"""
    return part.partition("-")[0] in PART.values() and part.partition("-")[2].isdigit()


def teeth_of(address: str) -> list[int]:
    """The teeth a body is of; none for what is no die."""
    part = part_of(address)
    return [int(part.partition("-")[2])] if is_die(part) else []


def kind_of(address: str) -> str:
    """As report.json has it: body, die, joined, or part."""
    part = part_of(address)
    return "die" if is_die(part) else JOINED if part == JOINED else "part" if part else "body"


def stands_held(address: str, supports: str, stands: Mapping[str, str]) -> bool:
    """Does a body stand on pillars? supports : what is said of all, none or all; stands : of single ones. Dies do unless a person says
    otherwise."""
    return stands.get(address, "all" if is_die(part_of(address)) else supports) == "all"
