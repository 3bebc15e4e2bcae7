"""One target under atheris, in a process of its own: python -m tests.fuzz.one TARGET FOLDER [libFuzzer's options]."""

from __future__ import annotations

import json
import os
import random
import sys
from pathlib import Path

# Kernels as plain Python: the fuzzer sees their branches too, and what would be read beyond an array's end is an error.
os.environ["NUMBA_DISABLE_JIT"] = "1"

import atheris

_ODD = [None, True, -1, 0, 10**20, 1e308, "", "\0", "\ud800", "../../etc/passwd", "p1", "*", "a" * 64, [], {}, [[]], {"a": {}}, "x" * 3000]


def forged(data: bytes, most: int, seed: int) -> bytes:
    """One place of a JSON text changed into something odd; what is no JSON any more is changed byte by byte."""
    rng = random.Random(seed)
    try:
        value = json.loads(data)
    except (ValueError, RecursionError):
        return atheris.Mutate(data, most)
    at, parent, key = value, None, None
    while isinstance(at, (dict, list)) and at and (parent is None or rng.random() < 0.75):
        parent, key = at, rng.choice(list(at)) if isinstance(at, dict) else rng.randrange(len(at))
        at = at[key]
    if parent is None:
        return data
    if rng.random() < 0.15:
        del parent[key]
    elif rng.random() < 0.2 and isinstance(parent, list):
        parent.append(at)
    else:
        parent[key] = rng.choice(_ODD)
    return json.dumps(value).encode()[:most]


def main() -> None:
    name, folder, *options = sys.argv[1:]
    with atheris.instrument_imports(include=["bitecore.files", "bitecore.text", "bitecore.mesh", "cases.carried"]):
        import bitecore.files.warm
        import cases.carried
        from tests.fuzz.targets import TARGETS, WORDS
    assert bitecore.files.warm and cases.carried
    target, seeds, longest = TARGETS[name]
    corpus = Path(folder) / "corpus"
    corpus.mkdir(parents=True, exist_ok=True)
    for number, data in enumerate(seeds()):
        if len(data) <= longest:
            (corpus / f"seed-{number}").write_bytes(data)
    words = Path(folder) / "words"
    words.write_text("".join(f'"{"".join(f"{chr(92)}x{b:02x}" for b in word.encode())}"\n' for word in WORDS))
    known = [f"-max_len={longest}", f"-dict={words}", "-timeout=10", "-rss_limit_mb=1500", "-print_final_stats=1"]
    known.append(f"-artifact_prefix={folder}/found-")

    def one(data: bytes) -> None:
        target(data)

    atheris.Setup([sys.argv[0], str(corpus), *known, *options], one, **({"custom_mutator": forged} if name == "case-index" else {}))
    atheris.Fuzz()


if __name__ == "__main__":
    main()
