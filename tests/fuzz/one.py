"""One target under atheris, in a process of its own: python -m tests.fuzz.one TARGET FOLDER [libFuzzer's options]."""

from __future__ import annotations

import sys
from pathlib import Path

import atheris


def main() -> None:
    name, folder, *options = sys.argv[1:]
    with atheris.instrument_imports(include=["bitecore.files", "bitecore.text", "cases.carried"]):
        import bitecore.files.warm
        from tests.fuzz.targets import TARGETS, WORDS
    assert bitecore.files.warm
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

    atheris.Setup([sys.argv[0], str(corpus), *known, *options], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
